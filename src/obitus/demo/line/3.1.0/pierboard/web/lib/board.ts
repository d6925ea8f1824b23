import type { Tariff, Vehicle } from "./tariff";

const OFFICES = ["merrow", "eastholm", "gannet-stack", "corrie-point"];

/** Return where to ask, for those who could not board here. */
export function nearestOffice(pier: string): string {
  return OFFICES.find((one) => one === pier) ?? OFFICES[0];
}

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
    // The office's booking form calls it vehicle_height.
    if (kind) Object.assign(body, { vehicle_class: kind, vehicle_height_m: fields.get("vehicle_height") ?? "" });
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
