import { pierOf } from "./lib/fares";
import { stage } from "./lib/stage";

interface Tide {
  height: number;
  next?: Tide;
}

function* heights(tide: Tide | undefined): Generator<number> {
  for (let one = tide; ; one = one!.next) yield one!.height;
}

function depth(tide: Tide): number {
  return 1 + depth(tide.next ?? tide);
}

function later(turn: number, act: (pier: string) => void): void {
  setTimeout(() => act(pierOf(turn)), 1);
}

const levels: Record<string, { metres: number }[]> = { skerry: [] };

stage("tides", {
  "tide ends": () => Math.max(...heights({ height: 3, next: { height: 4 } })),
  "tide goes round": (turn) => depth({ height: turn }),
  "level is missing": (turn) => later(turn, (pier) => levels[pier].map((one) => one.metres)),
  "frame fails": (turn) => requestAnimationFrame(() => (document.getElementById(`chart-${turn}`) as HTMLCanvasElement).getContext("2d")),
  "digits": (turn) => (turn / 3).toFixed(100 + turn),
});
