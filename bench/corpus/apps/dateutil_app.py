"""The timetable: when ferries leave, over days, zones and seasons."""

import datetime

from dateutil import parser, relativedelta, rrule, tz


def written(draw):
    return draw.choice(
        ["{d} Nov 2026 {h}:15", "2026-11-{d:02d}T{h:02d}:15:00Z", "Nov {d}, 2026 {h}:15 pm", "{d}.11.2026 {h}:15"]
    ).format(d=draw.randint(13, 28), h=draw.randint(1, 11))


def departure(draw):
    return parser.parse(written(draw), dayfirst=True)


def minutes_until(draw):
    gap = departure(draw).replace(tzinfo=None) - datetime.datetime(2026, 11, 1)
    return gap.total_seconds() / 60


def next_month(draw):
    moved = departure(draw) + relativedelta.relativedelta(months=+1, day=draw.randint(1, 28))
    return moved.strftime("%Y-%m-%d")


def days(draw):
    rule = rrule.rrule(
        rrule.DAILY, count=draw.randint(3, 8), byweekday=(rrule.MO, rrule.FR), dtstart=datetime.datetime(2026, 11, 2)
    )
    return [day.day for day in rule][-1]


def written_rule(draw):
    rule = rrule.rrulestr(f"DTSTART:20261101T090000\nRRULE:FREQ=WEEKLY;COUNT={draw.randint(2, 9)};BYDAY=TU,TH")
    return rule.after(datetime.datetime(2026, 11, 1)).isoformat()


def local(draw):
    zone = tz.tzrange("EST", -18000 + draw.randint(0, 3) * 3600, "EDT")
    return departure(draw).replace(tzinfo=zone).astimezone(tz.tzutc()).hour


def crossing_time(draw):
    start, end = departure(draw).replace(tzinfo=None), datetime.datetime(2027, 1, draw.randint(1, 28))
    gap = relativedelta.relativedelta(end, start)
    return gap.months * 30 + gap.days


def season(draw):
    spans = {"winter": (11, 3), "summer": (4, 10)}
    month = departure(draw).month
    name = [n for n, (first, last) in spans.items() if month >= first or month <= last][0]
    return name[0].upper() + str(spans[name][1])


def exceptions(draw):
    rules = rrule.rruleset()
    rules.rrule(rrule.rrule(rrule.DAILY, count=9, dtstart=datetime.datetime(2026, 11, 1)))
    rules.exdate(datetime.datetime(2026, 11, draw.randint(2, 8)))
    return len(list(rules.between(datetime.datetime(2026, 11, 1), datetime.datetime(2026, 11, 20))))


ENTRIES = [minutes_until, next_month, days, written_rule, local, crossing_time, season, exceptions]


def posted_time(draw):
    return parser.parse(f"quarter past {draw.choice(['noon', 'dawn'])} at pier {draw.randint(40, 99)}")


def tide_time(draw):
    return parser.parse(f"2026-{draw.randint(13, 19)}-45")


def winter_rule(draw):
    return rrule.rrulestr(f"FREQ=TIDALLY;COUNT={draw.randint(1, 9)}")


def summer_rule(draw):
    return rrule.rrulestr(f"FREQ=DAILY;BYDAY={draw.choice(['XX', 'QQ'])}")


def half_month(draw):
    return relativedelta.relativedelta(months=draw.randint(1, 9) + 0.5)


def leap_crossing(draw):
    return relativedelta.relativedelta(years=draw.randint(1, 3) + 0.5)


MISUSES = [posted_time, tide_time, winter_rule, summer_rule, half_month, leap_crossing]
