import { Component, useMemo, useReducer, type ReactNode } from "react";
import { createRoot } from "react-dom/client";
import { pierOf } from "./lib/fares";
import { caught, stage } from "./lib/stage";

interface Cabin {
  beds: number[];
  guest?: { names: string[] };
}

class Quiet extends Component<{ children: ReactNode }, { why?: string }> {
  state: { why?: string } = {};
  componentDidCatch(error: unknown, info: unknown): void {
    caught(error, info);
    this.setState({ why: "closed" });
  }
  static getDerivedStateFromError(): object {
    return {};
  }
  render(): ReactNode {
    return this.state.why ?? this.props.children;
  }
}

const Beds = ({ cabin }: { cabin: Cabin }): ReactNode => {
  const free = useMemo(() => cabin.beds.filter((one) => one > 0).map((one) => one.toString(40 + one)), [cabin]);
  return <ul>{free.map((one) => <li key={one}>{one}</li>)}</ul>;
};

const Guests = ({ cabin }: { cabin: Cabin }): ReactNode => <p>{[...cabin.guest!.names].join(", ")}</p>;

function Night(): ReactNode {
  const [, give] = useReducer((nights: number, more: { nights: number }) => nights + more.nights, 0);
  return <button id="night" onClick={() => give(undefined as unknown as { nights: number })}>one more</button>;
}

function show(part: ReactNode): void {
  const place = document.createElement("div");
  document.body.append(place);
  createRoot(place, { onUncaughtError: caught, onCaughtError: () => undefined }).render(<Quiet>{part}</Quiet>);
}

stage("nights", {
  "beds in base forty": (turn) => show(<Beds cabin={{ beds: [turn] }} />),
  "no guest": () => show(<Guests cabin={{ beds: [] }} />),
  "a night of nothing": () => {
    show(<Night />);
    setTimeout(() => [...document.querySelectorAll<HTMLButtonElement>("#night")].at(-1)!.click(), 20);
  },
  "left by a promise": (turn) => void new Promise((_, failed) => setTimeout(() => failed(new Error(`${pierOf(turn)} is full at night`)), 1)),
});
