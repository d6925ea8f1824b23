import { Fares, pierOf, type Vehicle } from "./lib/fares";
import { stage } from "./lib/stage";

const confirm = (vehicle: Vehicle, passengers: number, turn: number): number => new Fares(pierOf(turn)).quote(vehicle, passengers);

function fieldOf(form: string, name: string): string {
  const found = document.querySelector<HTMLInputElement>(`form#${form} input[name=${name}]`);
  return found!.value.trim();
}

function lanes(count: number): number[] {
  return new Array(count).fill(0);
}

stage("boarding", {
  "height is empty": (turn) => confirm({ kind: ["car", "van"][turn % 2] }, turn, turn),
  "kind is unknown": (turn) => confirm({ kind: ["tram", "hovercraft", "bus"][turn % 3] }, 2, turn),
  "form is missing": (turn) => fieldOf(`boarding-${turn}`, "height"),
  "lanes below zero": (turn) => lanes(-turn),
});
