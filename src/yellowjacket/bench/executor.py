"""Running pure functions over many inputs in worker processes; a worker that dies costs one input."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from typing import TypeVar

Item = TypeVar("Item")
Result = TypeVar("Result")

_pool: ProcessPoolExecutor | None = None


class WorkerDied(Exception):
    """The process that worked on an input ended without an answer."""


def _new_pool(workers: int) -> ProcessPoolExecutor:
    # Fresh interpreters: a fork of a process with threads and a database connection is no place to decode in.
    return ProcessPoolExecutor(max_workers=workers, mp_context=multiprocessing.get_context("spawn"))


def _shared_pool() -> ProcessPoolExecutor:
    """One pool for the life of the process: starting workers costs about a second."""
    global _pool
    if _pool is None:
        _pool = _new_pool(os.cpu_count() or 1)
    return _pool


def _drop_pool() -> None:
    global _pool
    if _pool is not None:
        _pool.shutdown(wait=False, cancel_futures=True)
        _pool = None


def run_all(function: Callable[[Item], Result], items: Sequence[Item]) -> Iterator[tuple[Item, Result | Exception]]:
    """Yield (item, result or exception) in the order of the items; what was not started is dropped on close.

    A worker that dies takes every input in flight with it; those are run again one by one, each in a
    process of its own, so that only the guilty one comes back as WorkerDied.
    """
    pool = _shared_pool()
    futures = {pool.submit(function, item): item for item in items}
    lost: list[Item] = []
    try:
        for future in futures:
            error = future.exception()
            if isinstance(error, BrokenProcessPool):
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


def _alone(function: Callable[[Item], Result], item: Item) -> Result | Exception:
    with _new_pool(1) as pool:
        try:
            return pool.submit(function, item).result()
        except BrokenProcessPool:
            return WorkerDied("the program that decodes it crashed")
        except Exception as error:
            return error
