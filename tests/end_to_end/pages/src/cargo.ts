import { stage } from "./lib/stage";

interface Crate {
  mark: string;
  goods: { kilos: number } | null;
}

function weigh({ goods }: Crate): number {
  const { kilos } = goods as { kilos: number };
  return kilos;
}

function hold(bytes: number): DataView {
  const view = new DataView(new ArrayBuffer(8));
  view.setFloat64(bytes, 1);
  return view;
}

const tally = (crates: Crate[]): bigint => crates.reduce((sum, one) => sum + (one.mark.length as unknown as bigint), 0n);

class Manifest {
  crates: Crate[] = [];
  toJSON(): unknown {
    return { crates: this.crates, of: this };
  }
  static sealed(crates: Crate[]): string {
    const manifest = new Manifest();
    manifest.crates = crates;
    const ring: Record<string, unknown> = { crates };
    ring.ring = ring;
    return JSON.stringify(ring);
  }
}

stage("cargo", {
  "crate is empty": (turn) => [{ mark: `c${turn}`, goods: null }].map(weigh),
  "beyond the hold": (turn) => hold(4 + turn),
  "numbers of two kinds": (turn) => tally([{ mark: "c".repeat(turn), goods: null }]),
  "manifest goes round": (turn) => Manifest.sealed([{ mark: `c${turn}`, goods: null }]),
  "mark is no word": (turn) => new RegExp(`(${"(".repeat(turn)}`).test("c"),
});
