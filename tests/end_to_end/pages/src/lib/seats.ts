interface Plan {
  seats: { row: number }[];
}

const rows = (plan: Plan): number[] => plan.seats.map((one) => one.row);

self.addEventListener("message", (event: MessageEvent<Plan>) => {
  self.postMessage(rows(event.data));
});
