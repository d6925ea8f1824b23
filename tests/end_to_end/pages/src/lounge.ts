import { NoBerth, pierOf } from "./lib/fares";
import { shown, stage } from "./lib/stage";

function choose(seat: number): void {
  if (seat) throw `seat ${seat} is taken`;
}

function refuse(seat: number): Promise<never> {
  return Promise.reject({ seat, why: "closed" });
}

function clean(pier: string): void {
  throw new AggregateError([new NoBerth(pier), new TypeError("no water")], `lounge of ${pier} is not clean`);
}

let worker: Worker | undefined;
function ask(turn: number): void {
  worker ??= new Worker(new URL("./lib/seats.ts", import.meta.url), { type: "module" });
  worker.onerror = shown;
  worker.postMessage({ seats: turn });
}

stage("lounge", {
  "seat is taken": (turn) => choose(turn),
  "lounge is closed": (turn) => void refuse(turn),
  "lounge is not clean": (turn) => clean(pierOf(turn)),
  "worker fails": (turn) => ask(turn),
});
