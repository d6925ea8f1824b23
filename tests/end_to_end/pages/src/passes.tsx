import { Component, useEffect, useState, type ReactNode } from "react";
import { createRoot } from "react-dom/client";
import { pierOf } from "./lib/fares";
import { caught, stage } from "./lib/stage";

interface Pass {
  pier: string;
  holder?: { name: string };
}

class Boundary extends Component<{ children: ReactNode }> {
  state = { failed: false };
  static getDerivedStateFromError(): { failed: boolean } {
    return { failed: true };
  }
  render(): ReactNode {
    return this.state.failed ? <p role="alert">This pass cannot be shown.</p> : this.props.children;
  }
}

const Holder = ({ pass }: { pass: Pass }): ReactNode => <b>{pass.holder!.name}</b>;

function Stamp({ pier, turn }: { pier: string; turn: number }): ReactNode {
  useEffect(() => {
    if (turn) throw new Error(`the stamp of ${pier} is dry`);
  });
  return <i>{pier}</i>;
}

function Printer(): ReactNode {
  const [sheets] = useState<{ left: number; tray?: { pull(): void } }>({ left: 1 });
  return <button id="print" onClick={() => sheets.tray!.pull()}>print</button>;
}

function show(part: ReactNode): void {
  const place = document.createElement("div");
  document.body.append(place);
  createRoot(place, { onCaughtError: caught, onUncaughtError: caught }).render(part);
}

show(<Printer />);
stage("passes", {
  "holder is missing": (turn) => show(<Boundary><Holder pass={{ pier: pierOf(turn) }} /></Boundary>),
  "stamp is dry": (turn) => show(<Boundary><Stamp pier={pierOf(turn)} turn={turn} /></Boundary>),
  "nothing around it": (turn) => show(<Fold pass={{ pier: pierOf(turn) }} />),
  "tray is missing": () => document.getElementById("print")!.click(),
});

function Fold({ pass }: { pass: Pass }): ReactNode {
  return <em>{pass.pier.split("").map((one) => one.repeat(-1))}</em>;
}
