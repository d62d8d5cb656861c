// Builds the examples against the packages of this folder. Where somebody copies an example, its own
// `npm install` takes the place of the link.
import { existsSync, readdirSync, symlinkSync } from "node:fs";
import { fileURLToPath } from "node:url";
import { build } from "vite";

const examples = new URL("../examples/", import.meta.url);
const modules = new URL("node_modules", examples);
if (!existsSync(modules)) symlinkSync("../web/node_modules", modules);
for (const name of readdirSync(examples)) {
  if (!existsSync(new URL(`${name}/index.html`, examples))) continue;
  const root = fileURLToPath(new URL(name, examples));
  await build({
    root,
    base: "./",
    configFile: false,
    logLevel: "warn",
    build: { target: "es2022" },
  });
}
