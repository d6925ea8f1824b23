import { NoBerth, pierOf } from "./lib/fares";
import { stage } from "./lib/stage";

abstract class Person {
  constructor(readonly name: string) {}
  abstract get watch(): string;
  brief(): string {
    return `${this.name}: ${this.watch.toUpperCase()}`;
  }
}

class Mate extends Person {
  readonly #watches = new Map([["day", "forenoon"]]);
  constructor(
    name: string,
    private readonly turn: string,
  ) {
    super(name);
  }
  get watch(): string {
    return this.#watches.get(this.turn) as string;
  }
  set berth(pier: string) {
    if (pier !== "home") throw new NoBerth(pier);
  }
}

function bunks(pier: string): number[][] {
  if (pier) throw new NoBerth(`the bunks of ${pier}`);
  return [];
}

function settle(pier: string): void {
  try {
    bunks(pier).at(0)!.at(0);
  } catch (error) {
    throw new Error(`the crew of ${pier} sleeps on board`, { cause: error });
  }
}

const roster: Readonly<Record<string, string>> = Object.freeze({ ada: "day" });

stage("crew", {
  "no such watch": (turn) => new Mate("Ada", `night ${turn}`).brief(),
  "no berth": (turn) => (new Mate("Bo", "day").berth = pierOf(turn)),
  "berth with a cause": (turn) => settle(pierOf(turn)),
  "roster is frozen": (turn) => ((roster as Record<string, string>)[["ada", "bo"][turn % 2]] = "night"),
  "called as a function": (turn) => (Mate as unknown as (name: string) => void)(`Cy ${turn}`),
});
