"""Running pure functions over many inputs in worker processes; a worker that dies costs one input."""

from __future__ import annotations

import multiprocessing
import os
import resource
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import CancelledError, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from typing import TypeVar
from uuid import uuid4

Item = TypeVar("Item")
Result = TypeVar("Result")

# No honest file takes so long (s): a frame of 150 MP is decoded and measured in well under a tenth of it.
LONGEST_S = 120.0
# Address of a Dask scheduler, tcp://host:8786; unset, the work is done by processes of this machine.
SCHEDULER_VARIABLE = "YELLOWJACKET_DASK_SCHEDULER"
_CONNECT_S = 10
_THREADS = ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS")
_TOO_LONG = "decoding it did not come to an end"

_pool: ProcessPoolExecutor | None = None


class WorkerDied(Exception):
    """The process that worked on an input ended without an answer."""


def _bound_memory() -> None:
    """In a worker: more than this machine has is never given to one file."""
    total = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    resource.setrlimit(resource.RLIMIT_AS, (total, total))


def _new_pool(workers: int) -> ProcessPoolExecutor:
    # There is a worker for every core: what they compute with must not start threads of its own beside them.
    for name in _THREADS:
        os.environ.setdefault(name, "1")
    # Fresh interpreters: a fork of a process with threads and a database connection is no place to decode in.
    return ProcessPoolExecutor(
        max_workers=workers, mp_context=multiprocessing.get_context("spawn"), initializer=_bound_memory
    )


def _shared_pool() -> ProcessPoolExecutor:
    """One pool for the life of the process: starting workers costs about a second."""
    global _pool
    if _pool is None:
        _pool = _new_pool(os.cpu_count() or 1)
    return _pool


def _drop_pool(*, kill: bool = False) -> None:
    global _pool
    if _pool is not None:
        # A decoder that hangs hears no polite request.
        for process in list((_pool._processes or {}).values()) if kill else []:
            process.kill()
        _pool.shutdown(wait=False, cancel_futures=True)
        _pool = None


def run_all(function: Callable[[Item], Result], items: Sequence[Item]) -> Iterator[tuple[Item, Result | Exception]]:
    """Yield (item, result or exception) in the order of the items; what was not started is dropped on close.

    A worker that dies or takes longer than LONGEST_S takes every input in flight with it; those are run again one
    by one, each in a process of its own, so that only the guilty one comes back as WorkerDied.
    """
    if address := os.environ.get(SCHEDULER_VARIABLE, ""):
        yield from _on_cluster(address, function, items)
        return
    pool = _shared_pool()
    futures = {pool.submit(function, item): item for item in items}
    lost: list[Item] = []
    try:
        for future in futures:
            try:
                error = future.exception(timeout=LONGEST_S)
            except TimeoutError:
                # Everything before it is done, so it has been at work for about that long.
                _drop_pool(kill=True)
                yield futures[future], WorkerDied(_TOO_LONG)
                continue
            if isinstance(error, (BrokenProcessPool, CancelledError)):
                lost.append(futures[future])
            elif isinstance(error, Exception):
                yield futures[future], error
            elif error is not None:
                raise error
            else:
                yield futures[future], future.result()
    finally:
        for future in futures:
            future.cancel()
        if lost:
            _drop_pool()
    for item in lost:
        yield item, _alone(function, item)


def _on_cluster(
    address: str, function: Callable[[Item], Result], items: Sequence[Item]
) -> Iterator[tuple[Item, Result | Exception]]:
    """The same on a Dask cluster: a worker that dies is replaced in its work by another, three times at most."""
    from distributed import Client, KilledWorker

    with Client(address, timeout=_CONNECT_S, set_as_default=False) as client:
        futures = [client.submit(function, item, pure=False, key=f"yellowjacket-{uuid4()}") for item in items]
        try:
            for item, future in zip(items, futures, strict=True):
                try:
                    yield item, future.result(timeout=LONGEST_S)
                except KilledWorker:
                    yield item, WorkerDied("the program that decodes it crashed")
                except TimeoutError:
                    future.cancel()
                    yield item, WorkerDied(_TOO_LONG)
                except Exception as error:
                    yield item, error
        finally:
            client.cancel(futures)


def _alone(function: Callable[[Item], Result], item: Item) -> Result | Exception:
    with _new_pool(1) as pool:
        try:
            return pool.submit(function, item).result(timeout=LONGEST_S)
        except BrokenProcessPool:
            return WorkerDied("the program that decodes it crashed")
        except TimeoutError:
            for process in list((pool._processes or {}).values()):
                process.kill()
            return WorkerDied(_TOO_LONG)
        except Exception as error:
            return error
