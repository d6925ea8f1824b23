import type { Tariff, Vehicle } from "./tariff";

export class Board {
  constructor(
    private readonly sailing: string,
    private readonly tariff: Tariff,
  ) {}

  quote(fields: FormData): number {
    const passengers = Number(fields.get("passengers"));
    return this.tariff.fare(this.vehicle(fields), passengers);
  }

  async send(fields: FormData): Promise<Response> {
    const kind = String(fields.get("vehicle_class"));
    const body: Record<string, unknown> = { passenger: fields.get("booking") };
    if (kind) Object.assign(body, { vehicle_class: kind, vehicle_height_m: fields.get("vehicle_height_m") });
    return fetch(`/sailings/${this.sailing}/boardings`, {
      method: "POST",
      headers: { "content-type": "application/json" },
      body: JSON.stringify(body),
    });
  }

  private vehicle(fields: FormData): Vehicle {
    const kind = String(fields.get("vehicle_class"));
    const typed = fields.get("vehicle_height_m");
    return { kind, height: typed ? { metres: Number(typed) } : undefined };
  }
}
