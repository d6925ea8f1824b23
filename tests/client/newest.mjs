// Runs a program with the newest Python that is at hand, one that was compiled to WebAssembly: node newest.mjs SOURCE FOLDER FILE
// It has neither threads nor processes nor a network.
import { createRequire } from 'node:module';

const [source, folder, file] = process.argv.slice(2);
const require = createRequire(new URL('../../console/package.json', import.meta.url));
const { loadPyodide } = require('pyodide');
const python = await loadPyodide({ stdout: (line) => console.log(line), stderr: (line) => console.error(line) });
python.mountNodeFS('/obitus', source);
python.mountNodeFS('/here', folder);
try {
	python.runPython(`
import os, runpy, sys
sys.dont_write_bytecode = True
sys.path.insert(0, "/obitus")
os.chdir("/here")
sys.argv[:] = [${JSON.stringify(file)}]
runpy.run_path(${JSON.stringify(file)}, run_name="__main__")
`);
} catch (error) {
	console.error(String(error));
	process.exitCode = 1;
}
