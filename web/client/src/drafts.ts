import { Drafting } from "./drafting.ts";
import { supportTexts } from "./texts.ts";

supportTexts(() => new Drafting());
