"""Jobs on other people's runners: one that ends well, one that dies of a LookupError, one that asks to be tried again.

Each program runs them all, in this process or in workers of its own, and ends by itself.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Runner:
    """One job runner; ``code`` is a program, ``worker`` a command that is ended once everything was counted."""

    name: str
    code: str
    good: str
    bad: str
    worker: tuple[str, ...] = ()
    redis: bool = False


HEAD = "import obitus\nobitus.watch()\nimport asyncio, os, sys, time\ndef print_pass(name):\n    raise LookupError('printer is out of ink')\n"

_HUEY = """
from huey import MemoryHuey
huey = MemoryHuey(immediate=True)
@huey.task()
def good(): return 1
@huey.task()
def bad(): print_pass("p-102")
good(); bad()
"""
_RQ = """
from redis import Redis
from rq import Queue, Worker
import manifests
connection = Redis(port=int(os.environ["REDIS_PORT"]))
queue = Queue(connection=connection)
queue.enqueue(manifests.good); queue.enqueue(manifests.bad)
Worker([queue], connection=connection).work(burst=True)
"""
_DRAMATIQ = """
import dramatiq
from dramatiq.brokers.stub import StubBroker
broker = StubBroker()
dramatiq.set_broker(broker)
@dramatiq.actor(max_retries=0)
def good(): pass
@dramatiq.actor(max_retries=0)
def bad(): print_pass("p-102")
worker = dramatiq.Worker(broker, worker_timeout=100, worker_threads=2)
worker.start()
good.send(); bad.send()
broker.join(good.queue_name); worker.join(); worker.stop()
"""
_APSCHEDULER = """
from apscheduler.schedulers.background import BackgroundScheduler
def good(): pass
def bad(): print_pass("p-102")
scheduler = BackgroundScheduler()
scheduler.start()
scheduler.add_job(good, id="good"); scheduler.add_job(bad, id="bad")
time.sleep(0.5)
scheduler.shutdown(wait=True)
"""
_ARQ = """
from arq import create_pool
from arq.connections import RedisSettings
from arq.worker import Worker
settings = RedisSettings(port=int(os.environ["REDIS_PORT"]))
async def good(ctx): return 1
async def bad(ctx): print_pass("p-102")
async def main():
    pool = await create_pool(settings)
    await pool.enqueue_job("good"); await pool.enqueue_job("bad")
    worker = Worker([good, bad], redis_settings=settings, burst=True, max_tries=1, handle_signals=False)
    await worker.main()
    await worker.close()
asyncio.run(main())
"""
_TASKIQ = """
from taskiq import InMemoryBroker
broker = InMemoryBroker()
@broker.task(task_name="good")
async def good(): return 1
@broker.task(task_name="bad")
async def bad(): print_pass("p-102")
async def main():
    for task in (good, bad):
        handle = await task.kiq()
        await handle.wait_result()
asyncio.run(main())
"""

RUNNERS = (
    Runner("huey", _HUEY, "job good", "job bad"),
    Runner("rq", _RQ, "job manifests.good", "job manifests.bad", redis=True),
    Runner("dramatiq", _DRAMATIQ, "job good", "job bad"),
    Runner("APScheduler", _APSCHEDULER, "job __main__:good", "job __main__:bad"),
    Runner("arq", _ARQ, "job good", "job bad", redis=True),
    Runner("taskiq", _TASKIQ, "job good", "job bad"),
)
