"""Job runners: each job is a run, and its unexpected exceptions are failures. Celery has a module of its own."""

from __future__ import annotations

import sys
from types import ModuleType
from typing import TYPE_CHECKING, Any

from obitus.client.active import active_reporter
from obitus.client.guard import guarded
from obitus.client.patches import Patches
from obitus.client.scope import RunScope
from obitus.core.bounds import short

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


class Job(RunScope):
    """One job while it goes on."""

    __slots__ = ()

    @guarded
    def end(self, error: BaseException | None = None, *, expected: bool = False, outcome: str = "") -> None:
        """The job ended; ``expected`` says that the runner or the job's author expects this exception."""
        if error is None:
            self.finish(outcome or "ok")
        else:
            self.finish("refused" if expected else self.ended_by(error))


@guarded
def begin(name: Any, captured_by: str, traceparent: Any = None, **attributes: Any) -> Job | None:
    """Begin a job's run; None where nothing is reported."""
    reporter = active_reporter()
    if reporter is None:
        return None
    job = Job(reporter, short(f"job {name}"), captured_by, traceparent=traceparent)
    for key, value in attributes.items():
        if value is not None:
            job.run.attach(f"task.{key}", short(str(value)))
    return job


def install_huey(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch each task's execution; exceptions that ask huey to retry later are expected."""
    expected = tuple(
        kind
        for name in ("RetryTask", "CancelExecution", "TaskLockedException", "RateLimitExceeded")
        if isinstance(kind := getattr(module, name, None), type)
    )

    def executing(before: Any) -> Any:
        def execute(task: Any) -> Any:
            job = begin(getattr(task, "name", type(task).__name__), "huey", id=getattr(task, "id", None))
            if job is None:
                return before(task)
            try:
                answer = before(task)
            except BaseException as error:
                job.end(error, expected=isinstance(error, expected))
                raise
            job.end()
            return answer

        return execute

    def make(before: Any) -> Any:
        def create_task(wrapper: Any, *args: Any, **kwargs: Any) -> Any:
            # Each task has a class of its own, made here.
            kind = before(wrapper, *args, **kwargs)
            kind.execute = executing(kind.execute)
            return kind

        return create_task

    patches.put(module.TaskWrapper, "create_task", make)


def install_rq(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch where a worker begins a job and where it gets the result, in whichever process that is."""
    going_on: dict[str, Job] = {}

    @guarded
    def ended(task: Any, error: BaseException | None) -> None:
        job = going_on.pop(task.id, None)
        if job is not None:
            job.end(error, outcome="" if error is not None else "ok")

    def beginning(before: Any) -> Any:
        def prepare_job_execution(worker: Any, task: Any, *args: Any, **kwargs: Any) -> Any:
            job = begin(task.func_name, "rq", (task.meta or {}).get("traceparent"), id=task.id)
            if job is not None:
                going_on[task.id] = job
            return before(worker, task, *args, **kwargs)

        return prepare_job_execution

    def succeeding(before: Any) -> Any:
        def handle_job_success(worker: Any, task: Any = None, *args: Any, **kwargs: Any) -> Any:
            ended(task or kwargs["job"], None)
            return before(worker, *(() if task is None else (task,)), *args, **kwargs)

        return handle_job_success

    def failing(before: Any) -> Any:
        def handle_job_failure(worker: Any, task: Any = None, *args: Any, **kwargs: Any) -> Any:
            ended(task or kwargs["job"], sys.exc_info()[1])
            return before(worker, *(() if task is None else (task,)), *args, **kwargs)

        return handle_job_failure

    patches.put(module.BaseWorker, "prepare_job_execution", beginning)
    patches.put(module.BaseWorker, "handle_job_success", succeeding)
    # The first is called before anything is written to a log, where there is such a point.
    first = "_finalize_failure" if hasattr(module.BaseWorker, "_finalize_failure") else "handle_job_failure"
    patches.put(module.BaseWorker, first, failing)


def install_dramatiq(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Give each broker a middleware."""
    from importlib import import_module

    base = import_module("dramatiq.middleware").Middleware
    attribute = "_obitus_job"

    class Watching(base):  # type: ignore[misc,valid-type]
        def before_process_message(self, broker: Any, message: Any) -> None:
            job = begin(message.actor_name, "dramatiq", message.options.get("traceparent"), id=message.message_id)
            message.__dict__[attribute] = job

        def after_process_message(
            self, broker: Any, message: Any, *, result: Any = None, exception: Any = None
        ) -> None:
            job = message.__dict__.pop(attribute, None)
            if job is None:
                return
            throws = message.options.get("throws") or broker.get_actor(message.actor_name).options.get("throws")
            retry = type(exception).__name__ == "Retry"
            job.end(exception, expected=retry or bool(throws and isinstance(exception, throws)))

        def after_skip_message(self, broker: Any, message: Any) -> None:
            job = message.__dict__.pop(attribute, None)
            if job is not None:
                job.end(outcome="refused")

    def make(before: Any) -> Any:
        def __init__(broker: Any, *args: Any, **kwargs: Any) -> None:
            before(broker, *args, **kwargs)
            broker.add_middleware(Watching())

        return __init__

    patches.put(module.Broker, "__init__", make)


def install_apscheduler(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch the function that runs a job: it catches what the job raises, logs it and puts it into its events."""

    def make(before: Any) -> Any:
        def run_job(task: Any, *args: Any, **kwargs: Any) -> Any:
            job = begin(getattr(task, "func_ref", None) or task.name, "apscheduler", id=task.id)
            if job is None:
                return before(task, *args, **kwargs)
            events = before(task, *args, **kwargs)
            raised = [error for event in events if (error := getattr(event, "exception", None)) is not None]
            job.end(raised[-1] if raised else None)
            return events

        return run_job

    patches.put(module, "run_job", make)
    pool = sys.modules.get("apscheduler.executors.pool")
    if pool is not None and hasattr(pool, "run_job"):
        patches.put(pool, "run_job", make)


def install_arq(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch the coroutines of a worker's functions."""
    expected = tuple(kind for name in ("Retry", "RetryJob") if isinstance(kind := getattr(module, name, None), type))

    def watching(name: str, coroutine: Any) -> Any:
        async def run(ctx: Any, *args: Any, **kwargs: Any) -> Any:
            job = begin(name, "arq", id=ctx.get("job_id") if isinstance(ctx, dict) else None)
            if job is None:
                return await coroutine(ctx, *args, **kwargs)
            try:
                answer = await coroutine(ctx, *args, **kwargs)
            except BaseException as error:
                job.end(error, expected=isinstance(error, expected))
                raise
            job.end()
            return answer

        return run

    def make(before: Any) -> Any:
        def __init__(worker: Any, *args: Any, **kwargs: Any) -> None:
            before(worker, *args, **kwargs)
            for name, function in worker.functions.items():
                function.coroutine = watching(name, function.coroutine)

        return __init__

    patches.put(module.Worker, "__init__", make)


def install_taskiq(reporter: Reporter, patches: Patches, module: ModuleType) -> None:
    """Watch the receiver's run of a task: it catches what the task raises and puts it into the result."""

    def make(before: Any) -> Any:
        async def run_task(receiver: Any, target: Any, message: Any, *args: Any, **kwargs: Any) -> Any:
            given = (message.labels or {}).get("traceparent")
            job = begin(message.task_name, "taskiq", given, id=message.task_id)
            if job is None:
                return await before(receiver, target, message, *args, **kwargs)
            try:
                result = await before(receiver, target, message, *args, **kwargs)
            except BaseException as error:
                job.end(error)
                raise
            raised = result.error if result.is_err else None
            job.end(raised, expected=type(raised).__name__ in ("NoResultError", "TaskRejectedError"))
            return result

        return run_task

    patches.put(module.Receiver, "run_task", make)
