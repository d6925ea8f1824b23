// Says for the maps in a list where each of their segments comes from, and the places between them, as one line of JSON a map.
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";

const require = createRequire(process.argv[2]);
const { TraceMap, decodedMappings, originalPositionFor } = require("@jridgewell/trace-mapping");

for (const path of readFileSync(0, "utf8").split("\n").filter(Boolean)) {
  const map = new TraceMap(JSON.parse(readFileSync(path, "utf8").replace(/^\)\]\}'.*\n/, "")));
  const found = [];
  decodedMappings(map).forEach((segments, at) => {
    segments.forEach(([column], number) => {
      const next = segments[number + 1]?.[0] ?? column + 3;
      for (const place of new Set([column, Math.floor((column + next) / 2)])) {
        const { source, line, column: from, name } = originalPositionFor(map, { line: at + 1, column: place });
        found.push([at + 1, place, source === null ? -1 : map.sources.indexOf(source), line, from, name]);
      }
    });
  });
  process.stdout.write(JSON.stringify(found) + "\n");
}
