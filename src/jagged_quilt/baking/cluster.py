"""Shards made on a cluster: Dask hands them out, each to one worker, and again if a worker dies."""

from __future__ import annotations

import pickle
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from itertools import islice
from typing import TYPE_CHECKING, TypeAlias

from jagged_quilt.arrays.page_store import DamagedPageError, PageStore
from jagged_quilt.baking.page_bake import Ran, Runs
from jagged_quilt.baking.page_texels import Finest
from jagged_quilt.baking.shards import Records, ShardTask, make_shard
from jagged_quilt.foundation.errors import FileError, QuiltError
from jagged_quilt.foundation.work import ANYHOW, Work

if TYPE_CHECKING:
    from distributed import Client, Future

_Made: TypeAlias = tuple[Records | DamagedPageError, str, float]  # a shard, the worker that made it, and its seconds
_IN_FLIGHT = 2  # shards for each worker: one that it makes, and one that waits
_DEATHS = 20  # how often a shard's worker may die before that is taken for the shard's own fault


@contextmanager
def on_cluster(address: str, *, work: Work = ANYHOW) -> Iterator[Runs]:
    """Give what makes shards on the workers of a Dask cluster.

    Parameters
    ----------
    address : str
        Of the scheduler, as `tcp://host:8786`; `local` starts a process for each core here.
    work : Work, optional
        Its threads are how many processes `local` starts.

    Raises
    ------
    FileError
        If Dask is not installed, or no scheduler answers.
    """
    try:
        import dask
        from distributed import Client, LocalCluster
    except ImportError:
        raise FileError('baking on a cluster needs Dask; install it with: pip install "jagged-quilt[cluster]"') from None
    quiet = {
        "distributed.scheduler.allowed-failures": _DEATHS,
        "distributed.admin.large-graph-warning-threshold": "100GB",
        "logging.distributed": "error",
    }
    with dask.config.set(quiet):
        if address == "local":
            count = work.count
            with (
                LocalCluster(n_workers=count, threads_per_worker=1, dashboard_address=None, silence_logs=50) as cluster,
                Client(cluster) as client,
            ):
                yield _runs(client)
            return
        try:
            client = Client(address, timeout="5s")
        except (OSError, ValueError) as error:
            raise FileError(f"{address}: no scheduler of a cluster answers there ({error})") from error
        with client:
            yield _runs(client)


def _runs(client: Client) -> Runs:
    def run(store: PageStore, finest: Finest, tasks: Iterable[ShardTask]) -> Iterator[Ran]:
        from distributed import as_completed

        # A task of its own, and not data sent ahead: if every worker that holds its result dies, it is worked out again.
        given = client.submit(pickle.loads, pickle.dumps(finest), pure=False)
        waiting, completed = iter(tasks), as_completed()
        going: dict[Future[_Made], ShardTask] = {}

        def hand_out(count: int) -> None:
            for task in islice(waiting, count):
                future = client.submit(_make, store, given, task, pure=False, retries=2)
                going[future] = task
                completed.add(future)

        hand_out(_IN_FLIGHT * max(1, len(client.scheduler_info()["workers"])))
        for future in completed:
            yield going.pop(future), *_result(future)
            hand_out(1)

    return run


def _make(store: PageStore, finest: Finest, task: ShardTask) -> _Made:
    """Make a shard, on a worker."""
    from distributed import get_worker

    began = time.perf_counter()
    try:
        made: Records | DamagedPageError = make_shard(store, finest, task)
    except DamagedPageError as error:
        made = error
    return made, str(get_worker().address), time.perf_counter() - began


def _result(future: Future[_Made]) -> _Made:
    from distributed import KilledWorker

    try:
        made: _Made = future.result()
    except QuiltError:
        raise
    except KilledWorker as error:
        raise FileError(f"a shard's workers died {_DEATHS} times; too little memory for it? ({error})") from error
    return made
