export type Fault = (turn: number) => unknown;

interface Reporter {
  attach(attributes: Record<string, string>): void;
  flush(): Promise<void>;
  caught(error: unknown, more?: unknown, where?: unknown): string;
}

export const reporter = (): Reporter => (window as unknown as { obitus: Reporter }).obitus;

let heard: () => void = () => undefined;

/** Hand to the reporter what a framework caught. */
export function caught(error: unknown, more?: unknown, where?: unknown): string {
  const id = reporter().caught(error, more, where);
  heard();
  return id;
}

/** Say that a fault has shown itself, where the window does not hear of it. */
export const shown = (): void => heard();
for (const kind of ["error", "unhandledrejection"]) window.addEventListener(kind, () => heard());

const pause = (ms: number): Promise<void> => new Promise((done) => setTimeout(done, ms));

/** Offer each fault as a button; with #walk in the address press each, and go on to the page that is named there. */
export function stage(page: string, faults: Record<string, Fault>): void {
  const turns: Record<string, number> = {};
  for (const [name, fault] of Object.entries(faults)) {
    const button = document.createElement("button");
    button.textContent = name;
    button.addEventListener("click", () => {
      turns[name] = (turns[name] ?? 0) + 1;
      fault(turns[name]);
    });
    document.getElementById("stage")!.append(button);
  }
  const walk = /^#walk=(\d+)&next=(.*)$/.exec(location.hash);
  if (walk) void walkThrough(page, Number(walk[1]), walk[2]);
}

async function walkThrough(page: string, turns: number, next: string): Promise<void> {
  for (const button of document.querySelectorAll<HTMLButtonElement>("#stage button"))
    for (let turn = 0; turn < turns; turn++) {
      reporter().attach({ planted: `${page}/${button.textContent}` });
      const isHeard = new Promise<void>((done) => (heard = done));
      button.click();
      // What comes later would be taken for the next one's.
      await Promise.race([isHeard, pause(5000)]);
      await pause(10);
    }
  await reporter().flush();
  location.assign(decodeURIComponent(next));
}
