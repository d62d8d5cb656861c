// What the example of a shared list loads of ours stays small: 12 kB, compressed as a server would.
import { gzipSync } from "node:zlib";
import { rolldown } from "rolldown";

const MOST = 12_000;
const entry = "budget-entry";
const names = {
  "@rendel/client": "connect",
  "@rendel/client/keeping": "claim",
  "@rendel/react": "Inside, useAt, useCount, useProblem, useStanding, useUnanswered",
};
const code = Object.entries(names).map(([from, what]) => `export { ${what} } from "${from}";`);
const bundle = await rolldown({
  input: entry,
  external: ["react"],
  plugins: [
    {
      name: "entry",
      resolveId: (id) => (id === entry ? `${import.meta.dirname}/${entry}.js` : null),
      load: (id) => (id.endsWith(`${entry}.js`) ? code.join("\n") : null),
    },
  ],
});
const { output } = await bundle.generate({ format: "es", minify: true });
const initial = output.filter((chunk) => chunk.type === "chunk" && !chunk.isDynamicEntry);
const size = initial.reduce((sum, chunk) => sum + gzipSync(chunk.code, { level: 9 }).length, 0);
console.log(`the shared list loads ${size} bytes of the client, of at most ${MOST}`);
if (size > MOST) process.exit(1);
