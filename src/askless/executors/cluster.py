"""Works on pieces on a Dask cluster: the same pieces, put together in the same order. A worker that
dies costs time only.

Workers need this very Ask Less, and must reach the capture by the path or URL that it has here.
`local` starts a cluster here.
"""

from __future__ import annotations

import contextlib
import logging
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from askless import __version__
from askless.core.errors import AskLessError
from askless.executors import ExecutorOptions, Given, Made

LOCAL = "local"
_AWAY_S = 15
_STARTS = 3  # of a cluster here
_RETRIES = 3  # of a piece whose worker has died
_AHEAD = 3  # pieces a worker that are under way or wait to be put together


class Cluster:
    """See the module. Raises AskLessError: cluster-extra-missing, cluster-away, cluster-other."""

    def __init__(self, wish: ExecutorOptions) -> None:
        self._wish = wish
        try:
            import distributed
        except ImportError:
            raise AskLessError(
                "cluster-extra-missing",
                "a cluster needs Dask, which is not installed",
                "pip install 'ask-less[cluster]'",
            ) from None
        self._dask: Any = distributed

    def map(self, work: Callable[[Given], Made], pieces: Sequence[Given]) -> Iterator[Made]:
        """See `Spread`."""
        with contextlib.ExitStack() as stack:
            client = self._client(stack)
            workers = client.scheduler_info(n_workers=-1)["workers"]
            if not workers:
                raise AskLessError(
                    "cluster-away",
                    f"{self._wish.cluster} has no workers",
                    "start some: dask worker ADDRESS",
                )
            self._check(client)
            waiting: deque[Any] = deque()
            for piece in pieces:
                waiting.append(client.submit(work, piece, pure=False, retries=_RETRIES))
                if len(waiting) >= _AHEAD * len(workers):
                    yield self._result(waiting.popleft())
            while waiting:
                yield self._result(waiting.popleft())

    def _client(self, stack: contextlib.ExitStack) -> Any:
        dask = self._dask
        # what matters is said in our own words
        logging.getLogger("distributed").setLevel(logging.CRITICAL)
        try:
            if self._wish.cluster == LOCAL:
                return stack.enter_context(dask.Client(stack.enter_context(self._local())))
            return stack.enter_context(dask.Client(self._wish.cluster, timeout=_AWAY_S))
        except (OSError, TimeoutError, ValueError, RuntimeError, AssertionError) as error:
            raise AskLessError(
                "cluster-away",
                f"there is no Dask scheduler at {self._wish.cluster}: "
                f"{error or type(error).__name__}",
                "use an address such as: --cluster tcp://127.0.0.1:8786",
            ) from None

    def _local(self) -> Any:
        """A cluster of this machine. On a busy one its loop may not start in the time that Dask
        allows: it is tried again.
        """
        for turn in range(_STARTS):
            try:
                return self._dask.LocalCluster(
                    n_workers=self._wish.workers,
                    threads_per_worker=1,
                    dashboard_address=None,
                    host="127.0.0.1",
                )
            except (RuntimeError, AssertionError):
                if turn + 1 == _STARTS:
                    raise
        raise AssertionError("the loop above returns or raises")

    def _check(self, client: Any) -> None:
        """Raises AskLessError cluster-other if a worker has another Ask Less: totals of two
        versions are not one.
        """
        try:
            versions = client.run(_version)
        except Exception:  # noqa: BLE001  (whatever a worker without Ask Less raises)
            versions = {"some worker": "none"}
        others = {place: version for place, version in versions.items() if version != __version__}
        if others:
            place, version = next(iter(others.items()))
            raise AskLessError(
                "cluster-other",
                f"the worker {place} has Ask Less {version}, but this machine has {__version__}",
                "install the same version on both",
            )

    def _result(self, future: Any) -> Any:
        try:
            return future.result()
        except AskLessError:
            raise
        except (
            self._dask.scheduler.KilledWorker,
            self._dask.client.FutureCancelledError,
            OSError,
            TimeoutError,
        ) as error:
            raise AskLessError(
                "cluster-lost",
                f"the cluster failed on a part of the capture: {error}",
                "check its workers' logs; they often run out of memory",
            ) from None


def _version() -> str:
    return __version__


def executor(wish: ExecutorOptions) -> Cluster:
    """See `spread.REGISTRY`."""
    return Cluster(wish)
