/** The kinds of fields, as the core lists them. Made by its tests. */
export const KINDS = {
  ballot: { takes: ["cast", "withdraw", "unseal", "restart"], inside: [] },
  clock: { takes: ["start", "stop", "seek", "rate"], inside: [] },
  counter: { takes: ["add"], inside: [] },
  deadline: { takes: ["set", "extend", "cancel"], inside: [] },
  list: { takes: ["insert"], inside: ["move", "remove"] },
  map: { takes: ["put"], inside: ["drop"] },
  random: { takes: ["roll", "shuffle", "open", "commit", "reveal", "waive"], inside: [] },
  register: { takes: ["set", "clear"], inside: [] },
  seats: { takes: ["sit", "stand", "offer", "accept", "give"], inside: [] },
  set: { takes: ["include", "exclude"], inside: [] },
  text: { takes: ["splice"], inside: [] },
  total: { takes: [], inside: [] },
  turn: { takes: ["advance", "reverse"], inside: [] },
} as const;

export type KindName = keyof typeof KINDS;
