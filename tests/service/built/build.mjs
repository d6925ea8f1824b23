// Builds the page of this folder as a team would: bundled, minified, with source maps. Arguments: the console's package.json, source, target.
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";

const [, , packages, root, target] = process.argv;
const vite = await import(pathToFileURL(createRequire(packages).resolve("vite")).href);
await vite.build({
  root,
  configFile: false,
  logLevel: "silent",
  build: {
    outDir: target,
    emptyOutDir: true,
    sourcemap: true,
    minify: true,
    modulePreload: false,
    rolldownOptions: {
      input: `${root}/src/page.ts`,
      preserveEntrySignatures: "strict",
      output: { entryFileNames: "assets/[name]-[hash].js" },
    },
  },
});
