// What is published is what whoever installs it can use: entry points, types, size; and the examples
// compile against it.
import { spawnSync } from "node:child_process";
import { readdirSync, readFileSync } from "node:fs";

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
// A bundler leaves out a module of which nothing is imported, unless the package says that loading it
// has an effect: it calls something at its top, or loads a module that does.
for (const name of ["client", "react"]) {
  const { sideEffects } = JSON.parse(readFileSync(`${name}/package.json`, "utf8"));
  const files = readdirSync(`${name}/dist`).filter((file) => file.endsWith(".js"));
  for (const file of files) {
    const code = readFileSync(`${name}/dist/${file}`, "utf8");
    const hasEffect = /^(import "|[\w.]+\()/m.test(code);
    if (hasEffect !== sideEffects.includes(`./dist/${file}`)) {
      console.error(`${name}/package.json: "sideEffects" is wrong about ./dist/${file}`);
      process.exit(1);
    }
  }
}
console.log("the packages are right, and small enough");
