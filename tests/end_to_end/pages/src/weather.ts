import { pierOf } from "./lib/fares";
import { stage } from "./lib/stage";

interface Gust {
  knots: number;
}

const readings: Record<string, Gust[]> = { eastholm: [] };
let warned = 0;

const strongest = (pier: string): Gust => readings[pier].reduce((a, b) => (a.knots > b.knots ? a : b));

function mean(gusts: Iterable<number>): number {
  const [first, ...others] = gusts;
  return others.reduce((sum, one) => sum + one, first);
}

class Barometer {
  #hectopascal = 1013;
  static of(thing: object): number {
    return (thing as Barometer).#hectopascal;
  }
}

async function* forecast(turn: number): AsyncGenerator<string> {
  yield pierOf(turn);
  throw new Error(`no forecast after hour ${turn}`);
}

async function whole(turn: number): Promise<void> {
  for await (const hour of forecast(turn)) if (!hour) return;
}

stage("weather", {
  "no gusts yet": () => strongest("eastholm"),
  "gusts are one number": (turn) => mean(turn as unknown as number[]),
  "not a barometer": () => Barometer.of({}),
  "forecast ends": (turn) => void whole(turn),
  "warning twice": (turn) => {
    const timer = setInterval(() => {
      clearInterval(timer);
      (window as unknown as { siren: { sound(n: number): void } }).siren.sound((warned += turn));
    }, 1);
  },
});
