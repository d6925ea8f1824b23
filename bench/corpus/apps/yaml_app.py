"""Duty rosters, kept as YAML."""

import yaml
from desk import refuse, require


def roster(draw):
    return f"""
mate: &mate {{name: Odd, shift: {draw.randint(1, 9)}}}
days:
  - {{day: mon, crew: [maren, odd], start: 2026-11-{draw.randint(10, 28)}}}
  - day: tue
    crew: [{", ".join(draw.sample(["ida", "jon", "liv"], 2))}]
    mate: *mate
notes: |
  tide at {draw.randint(1, 9)}
  fog
knots: {draw.randint(5, 20)}.5
"""


def load(draw):
    return yaml.load(roster(draw), Loader=yaml.SafeLoader)


def crew(draw):
    return sorted(name.title() for day in load(draw)["days"] for name in day["crew"])[0]


def speed(draw):
    return load(draw)["knots"] * 1.852


def saved(draw):
    return yaml.dump(load(draw), Dumper=yaml.SafeDumper, default_flow_style=False)


def events(draw):
    return [type(event).__name__ for event in yaml.parse(roster(draw), Loader=yaml.SafeLoader)][2]


def nodes(draw):
    node = yaml.compose(roster(draw), Loader=yaml.SafeLoader)
    return {key.value: value.tag for key, value in node.value}["days"]


def several(draw):
    text = "---\n".join(f"pier: {draw.randint(1, 9)}\n" for _ in range(3))
    return sum(document["pier"] for document in yaml.load_all(text, Loader=yaml.SafeLoader))


def shifts(draw):
    days = load(draw)["days"]
    by_day = {day["day"]: len(day["crew"]) for day in days}
    return by_day["mon"] / by_day["tue"] + days[1]["mate"]["shift"]


def flowed(draw):
    rows = [{"berth": draw.randint(1, 40), "car": "van"}, ["a", None, True, 1.5]]
    return yaml.dump_all([rows, "x: y"], Dumper=yaml.SafeDumper, explicit_start=True, width=30)


ENTRIES = [crew, speed, saved, events, nodes, several, shifts, flowed]


def winter_roster(draw):
    return yaml.load(f"mon: [maren, {draw.randint(1, 9)}", Loader=yaml.SafeLoader)


def summer_roster(draw):
    return yaml.load("tue: *nobody" + str(draw.randint(1, 9)), Loader=yaml.SafeLoader)


def spare_roster(draw):
    return yaml.load(f"wed: @{draw.randint(1, 9)}", Loader=yaml.SafeLoader)


def tagged_roster(draw):
    return yaml.load(f"thu: !crew {draw.randint(1, 9)}", Loader=yaml.SafeLoader)


def kept_object(draw):
    return yaml.dump({"draw": draw}, Dumper=yaml.SafeDumper)


def kept_function(draw):
    return yaml.dump([load, draw.randint(1, 9)], Dumper=yaml.SafeDumper)


def nobody_aboard(draw):
    days = load(draw)["days"]
    require(len(days) > 7, "nobody is aboard on {}", draw.choice(["mon", "tue", "wed"]))


def mate_twice(draw):
    mate = draw.choice(["Odd", "Maren", "Ida"])
    require(mate == "", "{} is mate twice", mate)


def night_shift(draw):
    refuse(f"shift {draw.randint(1, 9)} is at night")


MISUSES = [
    winter_roster,
    summer_roster,
    spare_roster,
    tagged_roster,
    kept_object,
    kept_function,
    nobody_aboard,
    mate_twice,
    night_shift,
]
