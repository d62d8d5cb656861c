// What is published is what whoever installs it can use: entry points, types, size; and the examples
// compile against it.
import { spawnSync } from "node:child_process";

const runs = [
  ["publint", "--strict", "client"],
  ["publint", "--strict", "react"],
  ["attw", "--pack", "client", "--profile", "esm-only", "--format", "ascii"],
  ["attw", "--pack", "react", "--profile", "esm-only", "--format", "ascii"],
  ["tsc", "-p", "../examples/shared-list"],
  ["tsc", "-p", "../examples/tasting-notes"],
  ["node", "budget.mjs"],
];
for (const [program, ...given] of runs) {
  const { status, stdout, stderr } = spawnSync("npx", [program, ...given], { encoding: "utf8" });
  if (status !== 0) {
    console.error(`${program} ${given.join(" ")}\n${stdout}${stderr}`);
    process.exit(1);
  }
}
console.log("the packages are right, and small enough");
