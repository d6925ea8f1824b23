type Listener = (value: unknown) => void;

/** Hands what happens to whoever listens: what fails there has all its frames below this one. */
export class Signals {
  readonly #listeners = new Map<string, Set<Listener>>();

  on(name: string, listener: Listener): void {
    const known = this.#listeners.get(name) ?? new Set();
    this.#listeners.set(name, known.add(listener));
  }

  give(name: string, value: unknown): void {
    for (const listener of this.#listeners.get(name) ?? []) listener(value);
  }
}

export function retried<T>(times: number, act: () => T): T {
  for (let turn = 1; turn < times; turn++) {
    try {
      return act();
    } catch {
      continue;
    }
  }
  return act();
}
