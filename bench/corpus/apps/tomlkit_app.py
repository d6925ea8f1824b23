"""Settings of the vessels, kept in files that people edit by hand."""

import tomlkit


def text(draw):
    return f"""# crossing {draw.randint(1, 999)}
title = "Tern {draw.randint(1, 9)}"
berths = [{", ".join(str(draw.randint(1, 30)) for _ in range(4))}]

[engine]
knots = {draw.randint(8, 20)}.5
oiled = 2026-0{draw.randint(1, 9)}-11T07:30:00Z

[[crew]]
name = "Maren"
pier = 'Eastholm'

[[crew]]
name = "Odd"
"""


def load(draw):
    return tomlkit.parse(text(draw))


def speed(draw):
    engine = load(draw)["engine"]
    return round(float(engine["knots"]) * 1.852, 1)


def names(draw):
    return [member["name"].upper() for member in load(draw)["crew"]]


def changed(draw):
    document = load(draw)
    document["engine"]["knots"] = draw.randint(1, 9)
    document.add("retired", draw.choice([True, False]))
    return tomlkit.dumps(document)


def with_table(draw):
    document = load(draw)
    table = tomlkit.table()
    table.add("length", draw.randint(20, 90))
    table.comment("metres")
    document["hull"] = table
    return document.as_string()


def berth_total(draw):
    berths = load(draw)["berths"]
    berths.append(draw.randint(1, 9))
    return sum(int(berth) for berth in berths) / len(berths)


def without(draw):
    document = load(draw)
    document.remove("title")
    return "title" in document.unwrap()


def from_plain(draw):
    plain = {"vessel": {"name": "Skua", "seats": draw.randint(10, 90), "runs": [1, 2]}}
    return tomlkit.dumps(tomlkit.item(plain))


def merged(draw):
    base, other = load(draw), tomlkit.parse(f"[radio]\nchannel = {draw.randint(1, 80)}\n")
    base.update(other)
    return base["radio"]["channel"] + 1


ENTRIES = [speed, names, changed, with_table, berth_total, without, from_plain, merged]


def twice_titled(draw):
    return tomlkit.parse(text(draw) + f"\n[engine]\nknots = {draw.randint(1, 9)}\n")


def cut_settings(draw):
    return tomlkit.parse(text(draw) + "\nradio = \n")


def crew_settings(draw):
    return tomlkit.parse(f"crew = [{draw.randint(1, 9)}")


def title_again(draw):
    document = load(draw)
    document.add("title", f"Skua {draw.randint(1, 99)}")
    return document


def fog_settings(draw):
    return tomlkit.parse(f"fog = tru{draw.choice('xyz')}\n")


def tide_settings(draw):
    document = load(draw)
    document.add("engine", draw.randint(1, 9))
    return document


MISUSES = [twice_titled, cut_settings, crew_settings, title_again, fog_settings, tide_settings]
