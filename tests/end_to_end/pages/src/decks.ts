import { createApp, defineComponent, h, nextTick, ref, watch } from "vue";
import { pierOf } from "./lib/fares";
import { caught, stage } from "./lib/stage";

interface Deck {
  name: string;
  lanes?: { free: number }[];
}

const DeckPlan = defineComponent({
  name: "DeckPlan",
  props: { deck: { type: Object, required: true } },
  setup: (props) => () => h("p", (props.deck as Deck).lanes!.map((lane) => lane.free).join(", ")),
});

const Loader = defineComponent({
  name: "Loader",
  setup() {
    const load = (event: Event): void => {
      const { cars } = (event.currentTarget as HTMLElement).dataset;
      JSON.parse(cars!).forEach((car: string) => car.trim());
    };
    return () => h("button", { id: "load", onClick: load }, "load");
  },
});

const level = ref(0);
const Gauge = defineComponent({
  name: "Gauge",
  setup() {
    watch(level, (now) => {
      if (now > 0) throw new RangeError(`deck lies ${now} cm too low`);
    });
    return () => h("span", level.value);
  },
});

function show(part: ReturnType<typeof defineComponent>, props: Record<string, unknown> = {}): void {
  const place = document.createElement("div");
  document.body.append(place);
  const app = createApp(part, props);
  app.config.errorHandler = caught;
  app.mount(place);
}

show(Loader);
show(Gauge);
stage("decks", {
  "deck without lanes": (turn) => show(DeckPlan, { deck: { name: pierOf(turn) } }),
  "cars are none": () => document.getElementById("load")!.click(),
  "deck lies too low": (turn) => {
    level.value = turn;
    return nextTick();
  },
});
