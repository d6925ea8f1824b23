class GangwayUp extends Error {
  constructor(message, options) { super(message, options); this.name = "GangwayUp"; }
}
class Gate {
  constructor(piers) { this.piers = piers; }
  open(pier) {
    return this.piers[pier].level.toFixed(); // FAULT undefined Gate.open
  }
  get first() {
    return this.piers.first(); // FAULT getter get first
  }
  static make(n) {
    if (n < 0) throw new GangwayUp("no gate " + n); // FAULT static Gate.make
    return new Gate(n);
  }
  async later(n) {
    await null;
    throw new RangeError("pier " + n + "\nis shut"); // FAULT async Gate.later
  }
  *berths() {
    yield 1;
    undefined_berth; // FAULT generator Gate.berths
  }
  #secret() {
    null.x; // FAULT private #secret
  }
  reveal() { this.#secret(); }
}
const arrow = (x) => {
  return x.y.z; // FAULT arrow arrow
};
function plain(list) {
  list.map(function each(item) {
    throw new TypeError("item " + item); // FAULT callback each
  });
}
function cause() {
  try { arrow({}); } catch (error) { throw new GangwayUp("wrapped", { cause: error }); }
}
function parsed(text) {
  return new Function("x", "return x.a.b")(text);
}
const faults = {
  undefined: () => new Gate({}).open("eastholm"),
  getter: () => new Gate([]).first,
  static: () => Gate.make(-1),
  async: () => new Gate([]).later(4),
  generator: () => [...new Gate([]).berths()],
  private: () => new Gate([]).reveal(),
  arrow: () => arrow({}),
  callback: () => plain([1]),
  cause,
};
faults[process.argv[2]]();
