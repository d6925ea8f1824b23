"""Which parts fit which engine: versions and requirements in the workshop's list."""

from desk import refuse, require
from packaging.markers import Marker
from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet
from packaging.utils import canonicalize_name, parse_wheel_filename
from packaging.version import Version


def number(draw):
    return f"{draw.randint(1, 9)}.{draw.randint(0, 20)}.{draw.randint(0, 9)}" + draw.choice(
        ["", "rc1", ".post2", ".dev3"]
    )


def newest(draw):
    versions = sorted(Version(number(draw)) for _ in range(5))
    return f"{versions[-1].major}.{versions[-1].minor}"


def fits(draw):
    wanted = SpecifierSet(f">={draw.randint(1, 4)}.0,<9,!=5.1.*")
    kept = list(wanted.filter([number(draw) for _ in range(12)], prereleases=True))
    return len(kept), Version("6.0") in wanted


def needed(draw):
    line = Requirement(f"pump[seal,oil]>={draw.randint(1, 9)}; python_version >= '3.{draw.randint(6, 9)}'")
    return sorted(line.extras)[0], str(line.specifier), line.marker.evaluate()


def marked(draw):
    marker = Marker(f"os_name == 'posix' and python_version < '4.{draw.randint(0, 9)}' or extra == 'oil'")
    return marker.evaluate({"extra": "oil"}), str(marker)


def wheel(draw):
    name, version, _, tags = parse_wheel_filename(f"engine_pump-{draw.randint(1, 9)}.2-py3-none-any.whl")
    return name.upper(), version.release[0], len(tags)


def next_number(draw):
    version = Version(number(draw))
    release = list(version.release)
    release[1] += 1
    return ".".join(str(part) for part in release) + ("" if version.pre is None else version.pre[0])


def shelf(draw):
    places = {}
    for name in ("Engine.Pump", "oil_seal", "Bilge-Pump"):
        places[canonicalize_name(name)] = draw.randint(1, 40)
    return places["engine-pump"] + places["oil-seal"]


def compared(draw):
    one, other = Version(number(draw)), Version(number(draw) + "+quay.1")
    return (one < other, one == other, hash(one), other.local.split(".")[0], str(other.public))


ENTRIES = [newest, fits, needed, marked, wheel, next_number, shelf, compared]


def stamped_part(draw):
    return Version(f"pump {draw.randint(1, 9)}")


def engraved_part(draw):
    return Version("-".join(["mk", str(draw.randint(1, 99))]))


def range_of_seals(draw):
    return SpecifierSet(f"=>{draw.randint(1, 9)}")


def range_of_valves(draw):
    return SpecifierSet(f"about {draw.randint(1, 9)}")


def crate(draw):
    return parse_wheel_filename(f"engine-{draw.randint(1, 9)}.whl")


def order_line(draw):
    return Requirement(f"pump >> {draw.randint(1, 9)}")


def spare_line(draw):
    return Requirement(f"== {draw.randint(1, 9)}")


def unknown_shelf(draw):
    require(draw.randint(1, 9) > 9, "there is no shelf {}", draw.randint(40, 99))


def empty_crate(draw):
    crates = [draw.randint(1, 9) for _ in range(3)]
    require(not crates, "crate {} is empty", crates[0])


def worn_seal(draw):
    hours = draw.randint(900, 5000)
    refuse(f"a seal of {hours} hours is worn out")


def worn_valve(draw):
    refuse("a valve of " + str(draw.randint(900, 5000)) + " hours is worn out")


MISUSES = [
    stamped_part,
    engraved_part,
    range_of_seals,
    range_of_valves,
    crate,
    order_line,
    spare_line,
    unknown_shelf,
    empty_crate,
    worn_seal,
    worn_valve,
]
