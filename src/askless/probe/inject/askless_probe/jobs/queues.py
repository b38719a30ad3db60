"""Celery, RQ, dramatiq, Huey, APScheduler and arq."""

from functools import wraps

from . import job_request


def install_celery(module):
    """Celery's public signals around each task, in whatever pool the worker runs it."""
    opened = {}

    def before(task_id=None, task=None, **ignored):
        if task_id is not None and task_id not in opened:
            opened[task_id] = job_request.job(getattr(task, "name", None)).__enter__()

    def after(task_id=None, **ignored):
        job = opened.pop(task_id, None)
        if job is not None:
            job.__exit__()

    module.task_prerun.connect(before, weak=False)
    module.task_postrun.connect(after, weak=False)


def install_rq(module):
    """RQ."""
    module.Job.perform = job_request.recorded(module.Job.perform, lambda job: job.func_name)


def install_dramatiq(module):
    """dramatiq: workers call the actor."""
    module.Actor.__call__ = job_request.recorded(
        module.Actor.__call__, lambda actor, *args, **kwargs: actor.actor_name
    )


def install_huey(module):
    """Huey: a task's `execute`, which the class of each task brings along."""
    plain = module.TaskWrapper.create_task

    @wraps(plain)
    def create_task(self, *args, **kwargs):
        cls = plain(self, *args, **kwargs)
        cls.execute = job_request.recorded(cls.execute, lambda task: task.name)
        return cls

    module.TaskWrapper.create_task = create_task


def install_apscheduler(module):
    """APScheduler 3: its executors take these functions from their base module."""

    def name_of(job, *rest):
        return job.name or job.id

    module.run_job = job_request.recorded(module.run_job, name_of)
    if hasattr(module, "run_coroutine_job"):
        module.run_coroutine_job = job_request.recorded_coroutine(module.run_coroutine_job, name_of)


def install_arq(module):
    """arq: the coroutine of each function that a worker knows."""
    plain = module.func

    @wraps(plain)
    def func(*args, **kwargs):
        result = plain(*args, **kwargs)
        return result if hasattr(result.coroutine, "__wrapped__") else _arq_job(result)

    module.func = func


def install_arq_cron(module):
    """arq's jobs that run at a time of day."""
    plain = module.cron

    @wraps(plain)
    def cron(*args, **kwargs):
        return _arq_job(plain(*args, **kwargs))

    module.cron = cron


def _arq_job(described):
    """arq's description of a job, its coroutine recorded."""
    described.coroutine = job_request.recorded_coroutine(
        described.coroutine, lambda *rest, **more: described.name
    )
    return described
