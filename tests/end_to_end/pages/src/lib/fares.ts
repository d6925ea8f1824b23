export interface Vehicle {
  kind: string;
  height?: { metres: number };
}

export class NoBerth extends Error {
  constructor(pier: string, options?: ErrorOptions) {
    super(`no berth at ${pier}`, options);
    this.name = "NoBerth";
  }
}

const TARIFF: Record<string, number> = { car: 12, van: 18, lorry: 31 };
const PIERS = ["eastholm", "skerry", "nordvik", "saltness"];

export const pierOf = (turn: number): string => PIERS[turn % PIERS.length];

export class Fares {
  readonly #pier: string;

  constructor(pier: string) {
    this.#pier = pier;
  }

  surcharge(vehicle: Vehicle): number {
    return vehicle.height!.metres > 2.1 ? 4 : 0;
  }

  quote(vehicle: Vehicle, passengers: number): number {
    const base = TARIFF[vehicle.kind];
    if (base === undefined) {
      throw new RangeError(`no fare for ${vehicle.kind} at ${this.#pier}`);
    }
    return base * passengers + this.surcharge(vehicle);
  }
}
