import { pierOf } from "./lib/fares";
import { stage } from "./lib/stage";

interface Parcel {
  weight: number;
  to?: { pier: string; berth?: { open(): void } };
  stamp?: unknown;
}

const opened = ({ to: { berth } }: Required<Parcel>): void => berth!.open();

function stamped(parcel: Parcel): string {
  return (parcel.stamp as (pier: string) => string)("skerry");
}

function heaviest(parcels: Parcel[]): number {
  const sorted = Object.freeze(parcels) as Parcel[];
  sorted.sort((a, b) => b.weight - a.weight);
  sorted.push({ weight: 1 });
  return sorted[0].weight;
}

const made = (kind: string): unknown => new ({ letter: Map } as unknown as Record<string, MapConstructor>)[kind]();

function labelled(turn: number): boolean {
  return "pier" in (pierOf(turn) as unknown as object);
}

class Scale {
  handleEvent(event: Event): void {
    const { pan } = event as unknown as { pan: { grams: number } };
    if (pan.grams > 20) this.tip();
  }
  tip(): void {
    document.title = "tipped";
  }
}
const scale = new EventTarget();
scale.addEventListener("weigh", new Scale());

stage("parcels", {
  "berth is not known": (turn) => opened({ weight: turn, to: { pier: pierOf(turn) }, stamp: 1 }),
  "nowhere to": (turn) => opened({ weight: turn } as Required<Parcel>),
  "stamp is a text": (turn) => stamped({ weight: turn, stamp: pierOf(turn) }),
  "list is frozen": (turn) => heaviest([{ weight: turn }, { weight: 2 }]),
  "kind of parcel is none": (turn) => made(`crate ${turn}`),
  "name is no parcel": (turn) => labelled(turn),
  "pan is empty": () => scale.dispatchEvent(new Event("weigh")),
});
