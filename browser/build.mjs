// Builds pages as a team would: bundled, minified, with source maps; each script of the source folder is one. Arguments: the console's package.json, source, target.
import { readdirSync } from "node:fs";
import { createRequire } from "node:module";
import { dirname } from "node:path";
import { pathToFileURL } from "node:url";

const [, , packages, root, target, ids] = process.argv;
const { resolve } = createRequire(packages);
const load = (name) => import(pathToFileURL(resolve(name)).href);
const vite = await load("vite");
const { svelte } = await load("@sveltejs/vite-plugin-svelte");
const { stamped } = await import(pathToFileURL(`${dirname(packages)}/../browser/vite-plugin.js`).href);
// The pages have no packages of their own.
const fromConsole = {
  name: "from-console",
  enforce: "pre",
  resolveId(source, importer) {
    const isBare = /^[a-z@]/.test(source) && importer && !importer.includes("node_modules");
    return isBare ? this.resolve(source, packages, { skipSelf: true }) : null;
  },
};
const entries = readdirSync(root).filter((name) => /^\w+\.(?:tsx?|svelte)$/.test(name));
await vite.build({
  root,
  configFile: false,
  logLevel: "error",
  plugins: [fromConsole, svelte({ configFile: false }), ...(ids ? [stamped()] : [])],
  build: {
    outDir: target,
    emptyOutDir: true,
    manifest: true,
    sourcemap: "hidden",
    minify: true,
    modulePreload: false,
    rolldownOptions: { input: entries.filter((name) => name.endsWith(".ts") || name.endsWith(".tsx")).map((name) => `${root}/${name}`) },
  },
  worker: { rolldownOptions: { output: { entryFileNames: "assets/[name]-[hash].js" } } },
});
