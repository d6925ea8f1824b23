import { Fares, type Vehicle } from "./fares";

const fares = new Fares("eastholm");

const confirm = (vehicle: Vehicle, passengers: number): number => fares.quote(vehicle, passengers);

export function board(vehicle: Vehicle, passengers: number): number {
  const total = confirm(vehicle, passengers);
  return Math.round(total * 100) / 100;
}
