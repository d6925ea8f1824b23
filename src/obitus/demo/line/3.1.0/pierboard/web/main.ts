import { Board, nearestOffice } from "./lib/board";
import { Tariff } from "./lib/tariff";

const form = document.querySelector<HTMLFormElement>("#boarding")!;
const said = document.querySelector<HTMLElement>("#said")!;
const sailing = location.pathname.split("/")[2] ?? "SK-4711";
const board = new Board(sailing, new Tariff("summer"));

function say(text: string, role: "alert" | "status"): void {
  said.setAttribute("role", role);
  said.textContent = text;
  said.hidden = false;
}

document.querySelector("#quote")!.addEventListener("click", () => {
  const pence = board.quote(new FormData(form));
  say(`${(pence / 100).toFixed(2)} pounds`, "status");
});

form.addEventListener("submit", (event) => {
  event.preventDefault();
  void board.send(new FormData(form)).then((answer) => {
    if (answer.ok) say("Welcome on board.", "status");
    else say(`Please ask at the office of ${nearestOffice(document.body.dataset.pier ?? "")}.`, "alert");
  });
});
