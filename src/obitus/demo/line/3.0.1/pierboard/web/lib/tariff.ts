export interface Vehicle {
  kind: string;
  height?: { metres: number };
}

const PENCE: Record<string, number> = { "": 450, car: 1200, campervan: 1800, trailer: 2100 };

export class Tariff {
  constructor(private readonly season: "summer" | "winter") {}

  fare(vehicle: Vehicle, passengers: number): number {
    const base = PENCE[vehicle.kind] * (this.season === "summer" ? 1.2 : 1);
    return base + 450 * (passengers - 1) + (vehicle.kind ? this.surcharge(vehicle) : 0);
  }

  private surcharge(vehicle: Vehicle): number {
    // Nobody who leaves the height empty should get as far as here.
    return vehicle.height!.metres > 2.1 ? 400 : 0;
  }
}
