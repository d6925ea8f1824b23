import { pierOf } from "./lib/fares";
import { stage } from "./lib/stage";

interface Sailing {
  pier: string;
  departures: { at: string }[];
}

async function sailingsOf(pier: string): Promise<Sailing[]> {
  const answer = await fetch(`/page-of/${pier}`);
  return (await answer.json()) as Sailing[];
}

async function first(pier: string): Promise<string> {
  const sailings = (await Promise.resolve([{ pier }])) as Sailing[];
  return sailings[0].departures[0].at;
}

const late = async (turn: number): Promise<void> => {
  await Promise.resolve();
  if (turn) throw new Error(`the ${turn}:30 is late at ${pierOf(turn)}`);
};

const full = async (turn: number): Promise<void> => {
  await Promise.resolve();
  if (turn) throw new RangeError(`no room on the ${turn}:30`);
};

async function all(turn: number): Promise<void> {
  await Promise.any([full(turn), full(turn + 1)]);
}

function parsed(text: string): unknown {
  return JSON.parse(text);
}

stage("timetable", {
  "answer is no json": (turn) => void sailingsOf(pierOf(turn)),
  "no departures": (turn) => void first(pierOf(turn)),
  "late": (turn) => void late(turn),
  "all are late": (turn) => void all(turn),
  "kept text is cut": (turn) => parsed(`{"pier": "${pierOf(turn)}", "dep`),
});
