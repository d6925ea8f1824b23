"""Sell tickets until standard input ends: whoever started this is gone then."""

import logging
import os
import random
import sys
import threading
import time

import obitus
from ticketdesk import fares

GROUPS = (1, 1, 2, 2, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)


def main() -> None:
    logging.basicConfig(level=logging.CRITICAL)
    obitus.watch(release="1.4.0", own=("ticketdesk",))
    threading.Thread(target=end_with_the_demo, daemon=True).start()
    dice = random.Random()
    while True:
        with obitus.run("job sell ticket"):
            passengers = dice.choice(GROUPS)
            obitus.attach({"passengers": passengers})
            fares.ticket(passengers)
        time.sleep(dice.uniform(0.4, 1.2))


def end_with_the_demo() -> None:
    sys.stdin.read()
    obitus.stop(0.5)
    os._exit(0)


if __name__ == "__main__":
    main()
