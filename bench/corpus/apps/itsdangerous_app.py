"""Boarding passes: signed, so that nobody writes their own."""

from itsdangerous import BadSignature, Signer, TimestampSigner, URLSafeSerializer, URLSafeTimedSerializer

KEY = "made-up key of the pier"
passes = URLSafeSerializer(KEY, salt="pass")
timed = URLSafeTimedSerializer(KEY, salt="timed")


def one_pass(draw):
    return {"passenger": f"p-{draw.randint(1, 999)}", "berth": draw.randint(1, 40)}


def round_trip(draw):
    return passes.loads(passes.dumps(one_pass(draw)))["passenger"].partition("-")[2]


def fresh(draw):
    found, stamp = timed.loads(timed.dumps(one_pass(draw)), max_age=60, return_timestamp=True)
    return found["berth"] * 2, stamp.year


def stamped(draw):
    signer = TimestampSigner(KEY)
    return signer.unsign(signer.sign(f"gate {draw.randint(1, 9)}"), max_age=60).decode().split()[1]


def plain(draw):
    signer = Signer(KEY, sep="~")
    return signer.validate(signer.sign(str(draw.randint(1, 99))))


def forged(draw):
    text = passes.dumps(one_pass(draw))
    ok, value = passes.loads_unsafe(text[:-3] + "xxx")
    return ok, value["berth"] + 1


def turned(draw):
    old = URLSafeSerializer(["old key", KEY], salt="pass")
    try:
        return old.loads(passes.dumps(one_pass(draw)))["berth"]
    except BadSignature:
        return 0


def total(draw):
    berths = [passes.loads(passes.dumps(one_pass(draw)))["berth"] for _ in range(4)]
    ranked = sorted(berths, reverse=True)
    return ranked[0] - ranked[-1] + len(berths) / ranked[0]


ENTRIES = [round_trip, fresh, stamped, plain, forged, turned, total]


def old_gate(draw):
    return passes.loads(f"pass-{draw.randint(1, 99)}")


def new_gate(draw):
    text = passes.dumps(one_pass(draw))
    return URLSafeSerializer("another key", salt="pass").loads(text)


def crew_gate(draw):
    return URLSafeSerializer(KEY, salt="crew").loads(passes.dumps(one_pass(draw)))


def late_gate(draw):
    return timed.loads(timed.dumps(one_pass(draw)), max_age=-draw.randint(5, 90))


def dotted_signer(draw):
    return Signer(KEY, sep=draw.choice("abc"))


MISUSES = [old_gate, new_gate, crew_gate, late_gate, dotted_signer]
