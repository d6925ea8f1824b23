"""Lines as eleven sorts of programs write them, each with the template that it came of. All of it is made up."""

from __future__ import annotations

import random
import re
from collections.abc import Callable
from typing import Final

NAMES: Final = [
    "anna",
    "tom",
    "bo",
    "lena",
    "ole",
    "per",
    "siv",
    "unn",
    "kari",
    "nils",
    "ida",
    "jon",
    "eva",
    "lars",
    "marit",
    "odd",
    "ragna",
    "tor",
    "vera",
    "yngve",
]
PIERS: Final = ["eastholm", "merrow", "corrie-point", "lyng", "sund", "vik", "ness", "holm", "strand", "the old quay"]
WORDS: Final = [
    "kelp",
    "otter",
    "grebe",
    "skua",
    "plover",
    "teal",
    "eider",
    "tern",
    "gannet",
    "puffin",
    "dunlin",
    "knot",
    "ruff",
    "stint",
    "snipe",
    "curlew",
]
TABLES: Final = ["boardings", "fares", "passes", "sailings", "manifests", "vehicles"]
CLASSES: Final = ["TideReader", "FareBook", "GateLoop", "MailQueue", "PassPrinter", "ManifestJob", "BerthPlan"]

FORMATS: Final[dict[str, list[str]]] = {
    "kernel": [
        "{device}: link becomes ready", "{device}: link down", "{device}: renamed from {device}", "usb {n}-{n}: new device number {n} using hub {hex}",
        "usb {n}-{n}: device disconnect, address {n}", "out of memory: killed process {n} ({word}) total {n}kB", "CPU{n}: temperature above threshold, clock throttled (total events = {n})",
        "disk {path}: remounted read-only after {n} errors", "audit: type={n} audit({float}:{n}): pid={n} uid={n} comm=\"{word}\"", "random: crng init done",
    ],
    "sign-in": [
        "Accepted password for {name} from {ip} port {n}", "Failed password for {name} from {ip} port {n}", "Failed password for unknown user {name} from {ip} port {n}",
        "Connection closed by {ip} port {n}", "Connection reset by {ip} port {n}", "session opened for user {name} by (uid={n})", "session closed for user {name}",
        "Received disconnect from {ip}: {n}: by user", "maximum of attempts exceeded for {name} from {ip}", "key exchange with {ip} failed: no common method",
    ],
    "mail relay": [
        "{ID}: to=<{mail}>, relay={host}[{ip}]:{n}, delay={float}, status=sent", "{ID}: to=<{mail}>, relay=none, delay={float}, status=deferred (no route to host)",
        "{ID}: from=<{mail}>, size={n}, parts={n} (queue active)", "{ID}: removed", "connect from {host}[{ip}]", "disconnect from {host}[{ip}] commands={n}/{n}",
        "{ID}: message-id=<{hex}@{host}>", "lost connection after greeting from {host}[{ip}]", "warning: hostname {host} does not resolve to address {ip}", "statistics: cache size {n} of {n}",
    ],
    "job runner": [
        "job {job} started on worker {n}", "job {job} done in {float} s", "job {job} failed after {n} tries", "worker {n} takes job {job} from queue {word}",
        "worker {n} is idle", "queue {word} has {n} jobs waiting", "queue {word} is empty", "heartbeat of worker {n} is {float} s late", "schedule reloaded: {n} entries",
        "retrying job {job} in {n} seconds",
    ],
    "database": [
        "statement took {float} ms: SELECT {list} FROM {table} WHERE id = {n}", "checkpoint starting: {reason}", "checkpoint complete: wrote {n} buffers ({float}%); {n} files added",
        "connection received: host={ip} port={n}", "connection authorized: user={name} base={table}", "disconnection: session time: {time} user={name} host={ip}",
        "duplicate key value violates unique constraint \"{table}_pkey\"", "deadlock detected between process {n} and process {n}", "automatic vacuum of table \"{table}\": removed {n} rows",
        "could not serialize access due to concurrent update", "temporary file: path \"{path}\", size {n}",
    ],
    "web server": [
        "client {ip} sent too large a body: {n} bytes", "upstream {ip}:{n} timed out while reading the answer for {path}", "upstream {ip}:{n} refused the connection",
        "file {path} not found", "access to {path} forbidden for client {ip}", "certificate of {host} expires in {n} days", "worker process {n} exited with code {n}",
        "signal {n} received from {n}, reconfiguring", "cache loader: {n} items of {n} kB loaded", "limiting requests of zone {word}, client {ip}",
    ],
    "service": [
        "{cls}: started in {n} ms", "{cls}: tide of {pier} is {float} m at {time}", "{cls}: no depth known for {pier}", "{cls}: passenger {name} boards SK-{n} at {pier}",
        "{cls}: passenger {name} has no pass", "{cls}: gate {n} opens", "{cls}: gate {n} closes", "{cls}: {n} cars, {n} bicycles and {n} persons on SK-{n}",
        "{cls}: mail to {mail} could not be handed over: {reason2}", "{cls}: configuration read from {path}", "{cls}: shutting down",
    ],
    "key and value": [
        "at=info method=GET path={path} status={n} took={n}ms user={name}", "at=warn msg=\"slow answer\" path={path} took={n}ms", "at=error msg=\"no fare\" kind={word} sailing=SK-{n}",
        "at=info msg=\"pass printed\" user={name} printer={n}", "at=info event=deploy release={n}.{n}.{n} host={host}", "at=debug cache=hit key={hex} ttl={n}", "at=debug cache=miss key={hex}",
        "at=warn msg=\"retry\" target={host} attempt={n}", "at=info msg=\"queue drained\" queue={word} items={n}",
    ],
    "sensors": [
        "berth {n}: water level {float} m", "berth {n}: no signal for {n} s", "ramp {n} is up", "ramp {n} is down", "ramp {n} is moving", "wind {float} m/s from {n} degrees at {pier}",
        "light {n} switched on by timer", "light {n} switched off by timer", "battery of buoy {n} at {n} %", "calibration of gauge {hex} finished with offset {float}",
    ],
    "file mover": [
        "copied {path} to {path} ({n} bytes)", "skipped {path}: unchanged since {time}", "removed {path}", "cannot read {path}: permission denied", "cannot read {path}: no such file",
        "found files: {paths}", "transfer of {n} files to {host} finished, {n} failed", "checksum of {path} is {hex}, expected {hex}", "free space on {path} is {n} MB",
    ],
    "broker": [
        "consumer {word}-{n} joined group {word} at generation {n}", "consumer {word}-{n} left group {word}", "partition {n} of topic {topic} moved to node {n}",
        "segment {n} of topic {topic} rolled in {n} ms", "node {n} is leader for partitions {numbers}", "node {n} lost its lease, last seen {time}", "client {ip}:{n} subscribed to {topic}",
        "message {hex} of {n} bytes rejected: too large", "replication lag of node {n} is {n} messages",
    ],
}  # fmt: skip


def _value(kind: str, dice: random.Random) -> str:
    made: dict[str, Callable[[], str]] = {
        "n": lambda: str(dice.randrange(10 ** dice.randrange(1, 6))),
        "float": lambda: f"{dice.uniform(0, 900):.2f}",
        "hex": lambda: f"{dice.getrandbits(48):012x}",
        "ID": lambda: f"{dice.getrandbits(40):010X}",
        "ip": lambda: ".".join(str(dice.randrange(256)) for _ in range(4)),
        "name": lambda: dice.choice(NAMES),
        "mail": lambda: f"{dice.choice(NAMES)}@{dice.choice(WORDS)}.example",
        "host": lambda: f"{dice.choice(WORDS)}.skerry.example",
        "word": lambda: dice.choice(WORDS),
        "pier": lambda: dice.choice(PIERS),
        "table": lambda: dice.choice(TABLES),
        "cls": lambda: f"skerry.{dice.choice(CLASSES)}",
        "topic": lambda: f"{dice.choice(TABLES)}.{dice.choice(WORDS)}",
        "job": lambda: dice.choice(["nightly-manifest", "print-pass", "tide-table", "mail-digest", "count-cars", "close-day", "sweep-spool"]),
        "path": lambda: "/" + "/".join(dice.choice(WORDS) for _ in range(dice.randrange(1, 5))) + dice.choice(["", ".csv", f".{dice.randrange(9)}"]),
        "device": lambda: f"{dice.choice(['eth', 'wlan', 'lo'])}{dice.randrange(4)}",
        "time": lambda: f"{dice.randrange(24):02}:{dice.randrange(60):02}:{dice.randrange(60):02}",
        "reason": lambda: dice.choice(["time", "size", "demand"]),
        "reason2": lambda: dice.choice(["451 try later", "550 no such mailbox", "421 too many connections"]),
        "list": lambda: ", ".join(dice.sample(WORDS, dice.randrange(1, 5))),
        "paths": lambda: ", ".join(_value("path", dice) for _ in range(dice.randrange(1, 6))),
        "numbers": lambda: ", ".join(str(dice.randrange(50)) for _ in range(dice.randrange(1, 8))),
    }  # fmt: skip
    return made[kind]()


def labelled(kind: str, count: int, seed: int = 1) -> list[tuple[str, str]]:
    """Return lines of one sort of program, each behind the template that it came of; some templates come much more than others."""
    dice = random.Random(f"{kind} {seed}")
    templates = FORMATS[kind]
    shares = [1 / (place + 1) for place in range(len(templates))]
    dice.shuffle(shares)
    chosen = dice.choices(templates, shares, k=count)
    return [(one, re.sub(r"\{(\w+)\}", lambda found: _value(found[1], dice), one)) for one in chosen]
