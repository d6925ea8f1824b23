import { pierOf } from "./lib/fares";
import { retried, Signals } from "./lib/signals";
import { stage } from "./lib/stage";

interface Vehicle {
  kind: string;
  axles?: { count: number };
}

const signals = new Signals();
signals.on("arrived", (car) => (car as { plate: { letters: string } }).plate.letters.trim());
signals.on("left", (car) => {
  const at = (car as { lane: number }).lane;
  if (at < 0) throw new RangeError(`lane ${at} is none`);
});

function call(turn: number): void {
  const waiting: string[] = [];
  waiting[turn].toLowerCase();
}

function toll(pier: string, vehicle: Vehicle): number {
  return Math.ceil(vehicle.axles!.count * pier.length);
}

function quoted(turn: number): number {
  return retried(3, () => toll(pierOf(turn), { kind: "lorry" }));
}

function opened(turn: number): void {
  retried(2, () => {
    if (turn) throw new Error(`the gate of lane ${turn} does not open`);
  });
}

stage("queue", {
  "plate is missing": (turn) => signals.give("arrived", { turn }),
  "lane is none": (turn) => signals.give("left", { lane: -turn }),
  "nobody waits": (turn) => call(turn),
  "lorry without a height": (turn) => quoted(turn),
  "gate stays shut": (turn) => opened(turn),
});
