"""How work reaches the app: three ways in, as most apps have them, with what stands around them."""

import asyncio
import concurrent.futures
import functools
import time

done = {}


class DeskError(Exception):
    pass


class Refused(DeskError):
    pass


def refuse(reason):
    raise Refused(reason)


def require(met, reason, *values):
    if not met:
        refuse(reason.format(*values))


def counted(function):
    @functools.wraps(function)
    def wrapper(*args, **kwargs):
        done[function.__name__] = done.get(function.__name__, 0) + 1
        return function(*args, **kwargs)

    return wrapper


class Desk:
    def __init__(self, layers):
        self.layers = layers

    def serve(self, task, draw):
        return self._pass_on(0, task, draw)

    def _pass_on(self, depth, task, draw):
        if depth == len(self.layers):
            return task(draw)
        return self.layers[depth](lambda: self._pass_on(depth + 1, task, draw))


def timed(go_on):
    started = time.monotonic()
    try:
        return go_on()
    finally:
        done["time"] = time.monotonic() - started


def signed_in(go_on):
    done["signed in"] = True
    return go_on()


@counted
def web(task, draw):
    return Desk([timed, signed_in]).serve(task, draw)


def nightly(task, draw):
    for attempt in range(3):
        try:
            return task(draw)
        except Exception:
            done["attempts"] = attempt
            if attempt == draw.randint(0, 2):
                raise
    return task(draw)


def command(task, draw):
    try:
        return [task(one) for one in (draw,)][0]
    except ValueError as error:
        raise DeskError(f"command {task.__name__} was refused") from error
    except LookupError:
        raise DeskError(f"nothing found for {draw.randint(1, 99)}")


async def _queued(task, draw):
    return task(draw)


def queue(task, draw):
    async def work():
        async with asyncio.TaskGroup() as group:
            started = group.create_task(_queued(task, draw))
        return started.result()

    return asyncio.run(work())


def pooled(task, draw):
    with concurrent.futures.ThreadPoolExecutor(1) as pool:
        return pool.submit(task, draw).result()


WAYS = [web, nightly, command, queue, pooled]
