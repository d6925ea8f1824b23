import { stage } from "./lib/stage";

const printed = async (turn: number): Promise<void> => (await import("./lib/printer")).print({ lines: turn });

async function missing(turn: number): Promise<void> {
  const address = `/assets/gone-${turn}.js`;
  await import(/* @vite-ignore */ address);
}

function keep(turn: number): void {
  structuredClone({ turn, act: () => turn });
}

function cancelled(turn: number): Promise<unknown> {
  const stop = new AbortController();
  stop.abort(new DOMException(`stopped by the person, turn ${turn}`, "AbortError"));
  return fetch("/page-of/skerry", { signal: stop.signal });
}

stage("kiosk", {
  "paper is missing": (turn) => void printed(turn),
  "part is gone": (turn) => void missing(turn),
  "cannot be kept": (turn) => keep(turn),
  "request is stopped": (turn) => void cancelled(turn),
});
