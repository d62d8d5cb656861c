/** Keeps pending proposals, and the state if one likes, over a reload of the page. */

export { type Claim, claim } from "./keeper.ts";
