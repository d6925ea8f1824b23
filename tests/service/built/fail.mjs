// Boards with what no fare is for, or no height is known of, and prints the stack. Arguments: the built file, and the case.
const { board } = await import(process.argv[2]);
try {
  board(process.argv[3] === "fare" ? { kind: "ferry" } : { kind: "van" }, 2);
} catch (error) {
  console.log(error.stack);
}
