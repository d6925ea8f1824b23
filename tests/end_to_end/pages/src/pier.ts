import { pierOf } from "./lib/fares";
import { stage } from "./lib/stage";

class PierSign extends HTMLElement {
  connectedCallback(): void {
    const root = this.attachShadow({ mode: "closed" });
    root.append(this.getAttribute("pier")!.trim());
  }
  attributeChangedCallback(name: string, _: string, value: string): void {
    if (value.length > 4) throw new RangeError(`${name} is too long for a sign: ${value}`);
  }
  static observedAttributes = ["short"];
}
customElements.define("pier-sign", PierSign);

function hang(attributes: Record<string, string>): void {
  const sign = document.createElement("pier-sign");
  for (const [name, value] of Object.entries(attributes)) sign.setAttribute(name, value);
  document.body.append(sign);
}

const seen = new MutationObserver((changes) => {
  for (const change of changes) if (change.attributeName === "data-pier") (change.target as HTMLElement & { pier: { name: string } }).pier.name.trim();
});
seen.observe(document.body, { attributes: true });

function nest(): void {
  const inner = document.createElement("div");
  const outer = document.createElement("div");
  outer.append(inner);
  inner.append(outer);
}

stage("pier", {
  "sign without a pier": () => hang({}),
  "sign too long": (turn) => hang({ pier: pierOf(turn), short: pierOf(turn) }),
  "change without a pier": (turn) => (document.body.dataset.pier = pierOf(turn)),
  "nested in itself": () => nest(),
  "no such part": (turn) => document.querySelector(`#berth[${turn}`),
});
