"""Notices on the piers and mails to passengers, from templates."""

from jinja2 import DictLoader, Environment, StrictUndefined

TEMPLATES = {
    "base": "<h1>{% block title %}Skerry Line{% endblock %}</h1>{% block body %}{% endblock %}",
    "notice": "{% extends 'base' %}{% block body %}{% for s in sailings %}{{ s.pier|upper }} at {{ s.hour }}{% if not loop.last %}, {% endif %}{% endfor %}{% endblock %}",
    "mail": "{% macro line(name, berth) %}{{ name|title }}: {{ berth }}{% endmacro %}{{ line(passenger.name, passenger.berth) }} {{ total|round(1) }}",
    "table": "{% set rows = sailings|sort(attribute='hour') %}{% for row in rows|batch(2) %}{{ row|map(attribute='pier')|join('/') }};{% endfor %}",
}
environment = Environment(loader=DictLoader(TEMPLATES), undefined=StrictUndefined, autoescape=True, cache_size=0)


def sailings(draw):
    return [
        {"pier": draw.choice(["Eastholm", "Westskerry"]), "hour": draw.randint(5, 22)}
        for _ in range(draw.randint(2, 5))
    ]


def shown(name, **values):
    return environment.get_template(name).render(**values)


def notice(draw):
    return shown("notice", sailings=sailings(draw))


def mail(draw):
    passenger = {"name": draw.choice(["maren", "odd"]), "berth": draw.randint(1, 40)}
    return shown("mail", passenger=passenger, total=draw.random() * 90)


def table(draw):
    return shown("table", sailings=sailings(draw)).split(";")[0]


def inline(draw):
    template = environment.from_string("{{ fare * seats }} {{ 'adult' if fare > 9 else 'child' }}")
    return float(template.render(fare=draw.randint(4, 20), seats=draw.randint(1, 4)).split()[0])


def expression(draw):
    found = environment.compile_expression("berths[0] + berths|length")
    return found(berths=[draw.randint(1, 9) for _ in range(3)]) * 2


def filtered(draw):
    environment.filters["knots"] = lambda value: f"{value / 1.852:.1f} kn"
    return environment.from_string("{{ speed|knots }}").render(speed=draw.randint(5, 30))


def streamed(draw):
    template = environment.from_string("{% for s in all %}{{ s.pier }}{% endfor %}")
    return "".join(template.generate(all=sailings(draw)))


def counted_words(draw):
    text = notice(draw)
    words = {}
    for word in text.replace(",", " ").split():
        words[word] = words.get(word, 0) + 1
    return words["at"] / len(words)


ENTRIES = [notice, mail, table, inline, expression, filtered, streamed, counted_words]


def fog_notice(draw):
    return shown(f"fog-{draw.randint(1, 9)}")


def storm_mail(draw):
    return environment.get_template(f"storm-{draw.choice('abc')}").render()


def cut_template(draw):
    return environment.from_string(f"{{% for s in sailings %}}{draw.randint(1, 99)}").render(sailings=[])


def odd_template(draw):
    return environment.from_string("{{ hour|" + draw.choice(["tidal", "lunar"]) + " }}").render(hour=1)


def nameless_mail(draw):
    return shown("mail", passenger={"name": "odd"}, total=draw.randint(1, 9))


def empty_notice(draw):
    return environment.from_string(f"{{{{ pier }}}} {draw.randint(1, 9)}").render()


MISUSES = [fog_notice, storm_mail, cut_template, odd_template, nameless_mail, empty_notice]
