import type { Json } from "@rendel/client/parts";
import { createContext } from "react";

/** The whole state that the editors below show a part of. */
export const StateContext = createContext<Json>(null);
