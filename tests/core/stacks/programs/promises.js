class Berths {
  async level(pier, after) {
    await new Promise((done) => setTimeout(done, after));
    if (pier > 1) throw new RangeError("pier " + pier); // FAULT all Berths.level
    return pier;
  }
  async all() { return await Promise.all([1, 2, 3].map((n) => this.level(n, n))); }
  async any() {
    return await Promise.any([this.dry("a"), this.dry("b")]);
  }
  async dry(pier) {
    await null;
    throw new TypeError("dry " + pier); // FAULT race Berths.dry
  }
  async race() { return await Promise.race([this.dry("c")]); }
  async settled() {
    const [one] = await Promise.allSettled([this.low()]);
    throw one.reason;
  }
  async low() {
    await null;
    return null.level; // FAULT settled Berths.low
  }
  async nested() { return await Promise.all([this.inner()]); }
  async inner() { return await Promise.all([Promise.resolve(1), this.deep()]); }
  async deep() {
    await null;
    throw new Error("deep"); // FAULT nested Berths.deep
  }
  async first() { return await Promise.all([this.at_once()]); }
  async at_once() {
    await null;
    return JSON.parse("{");
  }
  async members() {
    return await Promise.any([this.gone(1)]);
  }
  async gone(n) {
    await null;
    throw new TypeError("gone " + n); // FAULT any Berths.gone
  }
  async iterated() {
    for await (const one of this.each()) await Promise.all([one]);
  }
  async *each() {
    yield this.fog();
  }
  async fog() {
    await null;
    throw new Error("fog"); // FAULT iterated Berths.fog
  }
  async closure() {
    await Promise.all([1].map(async (n) => {
      await null;
      throw new RangeError("closure " + n); // FAULT closure <anonymous>
    }));
  }
  static async made() { return await Promise.all([Berths.make(3)]); }
  static async make(n) {
    await null;
    throw new RangeError("no berth " + n); // FAULT static Berths.make
  }
  async #hidden() {
    await null;
    undefined_berth; // FAULT private #hidden
  }
  async shown() { return await Promise.allSettled([this.#hidden()]).then(([one]) => { throw one.reason; }); }
  async wrapped() {
    try { await Promise.all([this.fallen()]); } catch (error) { throw new Error("wrapped", { cause: error }); }
  }
  async fallen() {
    await null;
    return null.pier; // FAULT cause Berths.fallen
  }
  async looped() {
    for (const n of [0, 1]) await Promise.race([this.one(n)]);
  }
  async one(n) {
    await null;
    if (n) throw new Error("one"); // FAULT loop Berths.one
  }
}
const arrow = async () => {
  await null;
  throw new TypeError("arrow"); // FAULT arrow arrow
};
const berths = new Berths();
const faults = {
  all: () => berths.all(), race: () => berths.race(), settled: () => berths.settled(), nested: () => berths.nested(),
  parsed: () => berths.first(), any: () => berths.members(), iterated: () => berths.iterated(), closure: () => berths.closure(),
  static: () => Berths.made(), private: () => berths.shown(), cause: () => berths.wrapped(), loop: () => berths.looped(),
  arrow: () => Promise.all([1].map(arrow)),
};
async function main() {
  await Promise.all([faults[process.argv[2]]()]);
}
main();
