import { mount } from "svelte";
import { pierOf } from "./lib/fares";
import { stage } from "./lib/stage";
import Board from "./lib/Board.svelte";

const show = (props: Record<string, unknown>): unknown => mount(Board, { target: document.body, props: props as { fault: string; pier: string } });

stage("sailings", {
  "sailing without a ship": (turn) => show({ fault: "ship", pier: pierOf(turn) }),
  "bell does not ring": (turn) => show({ fault: "bell", pier: pierOf(turn) }),
  "gangway is up": (turn) => {
    show({ fault: "gangway", pier: pierOf(turn) });
    [...document.querySelectorAll<HTMLButtonElement>("button.gangway")].at(-1)!.click();
  },
});
