"""Berths and queues in order."""

from desk import refuse, require
from sortedcontainers import SortedDict, SortedKeyList, SortedList, SortedSet


def queue(draw):
    return SortedList(draw.randint(1, 900) for _ in range(draw.randint(20, 60)))


def first_three(draw):
    return list(queue(draw)[:3])[2] / 2


def merged(draw):
    line = queue(draw)
    line.update(queue(draw))
    line.discard(line[0])
    return line.bisect_left(450), line.count(7)


def by_length(draw):
    vessels = SortedKeyList([f"vessel {'x' * draw.randint(1, 9)}" for _ in range(12)], key=len)
    vessels.add("tern")
    return vessels[0].upper(), vessels.bisect_key(8)


def tides(draw):
    levels = SortedDict({hour: draw.randint(1, 40) for hour in range(24)})
    levels.pop(3)
    hour, level = levels.peekitem(-1)
    return level / (hour + 1), list(levels.irange(5, 9))


def piers(draw):
    served = SortedSet(draw.sample(range(50), 20))
    other = SortedSet(draw.sample(range(50), 20))
    return (served & other) | (served - other), served.index(served[4])


def window(draw):
    line = queue(draw)
    return sum(line.irange(100, 700)) + len(list(line.islice(2, 8)))


def removed(draw):
    line = queue(draw)
    for value in list(line)[::3]:
        line.remove(value)
    return line.pop() - line[0]


def ranked(draw):
    line = SortedKeyList(((draw.randint(1, 9), f"p-{i}") for i in range(20)), key=lambda pair: pair[0])
    return [name for _, name in line.irange_key(2, 6)], line.index(line[3])


ENTRIES = [first_three, merged, by_length, tides, piers, window, removed, ranked]


def cancel_berth(draw):
    line = queue(draw)
    line.remove(draw.randint(1000, 2000))


def cancel_cabin(draw):
    cabins = SortedList(range(draw.randint(2, 9)))
    cabins.remove(-1)


def berth_number(draw):
    return queue(draw).index(draw.randint(1000, 2000))


def next_in_empty(draw):
    return SortedList().pop()


def last_cabin(draw):
    cabins = SortedList(range(draw.randint(3, 6)))
    return cabins[draw.randint(10, 90)]


def pier_number(draw):
    return SortedList("abc").index(draw.choice("xyz"))


def too_many_cabins(draw):
    cabins = queue(draw)
    require(len(cabins) < 5, "no more than 5 cabins, not {}", len(cabins))


def too_many_cars(draw):
    cars = draw.randint(90, 200)
    require(cars < 60, "no more than 60 cars, not {}", cars)


def shut_pier(draw):
    pier = draw.choice(["Eastholm", "Westskerry", "Tern Sound"])
    if draw.randint(1, 9):
        refuse(f"pier {pier} is shut")


def crewless(draw):
    for vessel in draw.sample(["Tern", "Skua", "Fulmar"], 2):
        refuse(f"{vessel} has no crew today")


MISUSES = [
    cancel_berth,
    cancel_cabin,
    berth_number,
    next_in_empty,
    last_cabin,
    pier_number,
    too_many_cabins,
    too_many_cars,
    shut_pier,
    crewless,
]
