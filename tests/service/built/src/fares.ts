export interface Vehicle {
  kind: string;
  height?: { metres: number };
}

const TARIFF: Record<string, number> = { car: 12, van: 18 };

export class Fares {
  constructor(private readonly pier: string) {}

  surcharge(vehicle: Vehicle): number {
    // The vehicle's height is empty where the form was left.
    return vehicle.height!.metres > 2.1 ? 4 : 0;
  }

  quote(vehicle: Vehicle, passengers: number): number {
    const base = TARIFF[vehicle.kind];
    if (base === undefined) {
      throw new RangeError(`no fare for ${vehicle.kind} at ${this.pier}`);
    }
    return base * passengers + this.surcharge(vehicle);
  }
}
