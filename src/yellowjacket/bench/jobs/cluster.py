"""Running functions over many inputs on a Dask cluster: by path where a worker sees the files, with their bytes where not."""

from __future__ import annotations

import contextlib
import logging
import time
from collections import Counter, deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import CancelledError
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any
from uuid import uuid4

from yellowjacket.bench.jobs.lent_files import Missing, call_with_lent, call_with_own, named_files
from yellowjacket.bench.jobs.worker_died import CRASHED, TOO_LONG, WorkerDied
from yellowjacket.bench.refusal import Refusal

if TYPE_CHECKING:
    from distributed import Client, Future

log = logging.getLogger(__name__)

_CONNECT_S = 10
# Beyond what a worker does at once, so that it has the next input while the last result is on its way.
_AHEAD = 1
_TRIES = 3
_LOOK_S = 1.0


def run_on(
    address: str, function: Callable[[Any], Any], items: Sequence[Any], longest_s: float
) -> Iterator[tuple[Any, Any]]:
    """Yield (item, result or exception) in the order of the items. A worker that dies is replaced in its work by another,
    three times at most; an input takes no longer than ``longest_s``. Refuses a cluster that does not answer."""
    from distributed import Client

    try:
        client = Client(address, timeout=_CONNECT_S, set_as_default=False)
    except (OSError, ValueError) as error:
        raise Refusal(f"No Dask scheduler answers at {address}. Start it, or correct the address.") from error
    with client:
        run = _Run(client, function, items, longest_s)
        try:
            for n, item in enumerate(items):
                yield item, run.outcome(n)
        finally:
            run.close()


@dataclass(frozen=True, slots=True)
class _Flight:
    """An input on its way: which one, at which worker, and until when."""

    n: int
    worker: str
    until: float


class _Run:
    """Inputs on their way through the workers of a cluster; each worker has one more than it can do at once.

    An input belongs to one worker: what it needs may lie there only, and it is known who died of what.
    """

    def __init__(self, client: Client, function: Callable[[Any], Any], items: Sequence[Any], longest_s: float) -> None:
        self._client, self._function, self._items, self._longest_s = client, function, items, longest_s
        self._waiting = deque(range(len(items)))
        # Whose worker died: innocent neighbours of a file that kills, or that file. Tried one by one, after all others.
        self._suspects: deque[int] = deque()
        self._deaths: Counter[int] = Counter()
        self._flying: dict[Future, _Flight] = {}
        self._outcomes: dict[int, Any] = {}
        # Folders that a worker does not see as they are here.
        self._unseen: set[tuple[str, Path]] = set()
        self._stuck: set[str] = set()
        self._workers: dict[str, int] = {}
        self._looked, self._seen = float("-inf"), time.monotonic()

    def outcome(self, n: int) -> Any:
        """Of the n-th input, as soon as it is there."""
        from distributed import wait

        while n not in self._outcomes:
            self._look_round()
            self._hand_out()
            if not self._flying:
                time.sleep(_LOOK_S / 10)
                continue
            # Raised as well for one that lost what it was sent; that is seen by its state.
            with contextlib.suppress(TimeoutError, CancelledError), self._client.as_current():
                wait(list(self._flying), timeout=_LOOK_S, return_when="FIRST_COMPLETED")
            for future in [one for one in self._flying if one.done()]:
                self._land(future, self._flying.pop(future))
        return self._outcomes.pop(n)

    def close(self) -> None:
        """What was not started is not."""
        self._client.cancel(list(self._flying))

    def _look_round(self) -> None:
        """Once in a while: who is there, who is gone with what, and what takes too long."""
        now = time.monotonic()
        if now < self._looked + _LOOK_S:
            return
        self._workers, self._looked = self._present(), now
        if self._workers:
            self._seen = now
        elif now > self._seen + _CONNECT_S:
            raise Refusal("The Dask scheduler has no workers. Start one, or take its address away.")
        # In the order in which they were handed out: of those at one worker the first is what holds up the others.
        for future, flight in list(self._flying.items()):
            if future.done():
                # However long ago: who asks for outcomes may have been busy with another.
                continue
            gone = flight.worker not in self._workers or flight.worker in self._stuck
            if gone or now > flight.until:
                del self._flying[future]
                self._client.cancel([future])
            if gone:
                self._died(flight.n)
            elif now > flight.until:
                self._outcomes[flight.n] = WorkerDied(TOO_LONG, too_long=True)
                self._end(flight.worker)

    def _present(self) -> dict[str, int]:
        """Threads by worker, of those that can be given something."""
        return {worker: threads for worker, threads in self._client.nthreads().items() if worker not in self._stuck}

    def _end(self, worker: str) -> None:
        """A decoder that hangs hears no polite request: its process is ended, where something would start it again. What
        stands behind it goes to others."""
        self._stuck.add(worker)
        with contextlib.suppress(Exception):
            self._client.restart_workers([worker], timeout=_CONNECT_S, raise_for_error=False)

    def _hand_out(self) -> None:
        load = Counter(flight.worker for flight in self._flying.values())
        # One each, round and round: no worker waits while another has two.
        for _ in range(max(self._workers.values(), default=0) + _AHEAD):
            for worker, threads in self._workers.items():
                if self._waiting and load[worker] < threads + _AHEAD:
                    load[worker] += 1
                    self._send(self._waiting.popleft(), worker)
        if self._suspects and self._workers and not self._flying:
            self._send(self._suspects.popleft(), next(iter(self._workers)))

    def _send(self, n: int, worker: str) -> None:
        item = self._items[n]
        files = named_files(item)
        lent: tuple[Future, ...] = ()
        if any((worker, Path(path).parent) in self._unseen for path in files):
            if worker not in self._present():
                # It went since the last look, with what it had: to offer it files would be waiting for nobody.
                self._looked = float("-inf")
                self._waiting.appendleft(n)
                return
            try:
                contents = [Path(path).read_bytes() for path in files]
            except OSError as error:
                self._outcomes[n] = error
                return
            try:
                # To the worker itself: the scheduler is a bookkeeper, not a store.
                lent = tuple(
                    self._client.scatter(contents, workers=[worker], direct=True, hash=False, timeout=_CONNECT_S)
                )
            except OSError as error:
                self._not_sent(n, worker, error)
                return
        call: tuple[Any, ...] = (call_with_own, self._function, item, files)
        if lent:
            call = (call_with_lent, *call[1:], lent)
        future = self._client.submit(*call, workers=[worker], pure=False, key=f"yellowjacket-{uuid4()}")
        # It may stand behind those that the worker has already.
        self._flying[future] = _Flight(n, worker, time.monotonic() + (1 + _AHEAD) * self._longest_s)

    def _not_sent(self, n: int, worker: str, error: OSError) -> None:
        """Files did not get to a worker: it has gone meanwhile, or cannot be reached from here at all."""
        self._workers = self._present()
        if worker in self._workers:
            raise Refusal(
                f"Files could not be sent to the worker at {worker}. Let this machine reach it, or share the folder with it."
            ) from error
        self._waiting.appendleft(n)

    def _land(self, future: Future, flight: _Flight) -> None:
        from distributed import KilledWorker

        outcome: Any = None
        try:
            # Of a finished one nothing is raised by the function itself: what is, is a result that went with its worker.
            outcome = future.exception() if future.status == "error" else future.result(timeout=_CONNECT_S)
        except Exception:
            log.info("input %s was lost at %s", flight.n, flight.worker)
            self._client.cancel([future])
            self._died(flight.n)
            return
        if isinstance(outcome, KilledWorker):
            self._died(flight.n)
        elif isinstance(outcome, Missing):
            self._unseen.add((flight.worker, Path(outcome.path).parent))
            self._waiting.appendleft(flight.n)
        else:
            self._outcomes[flight.n] = outcome

    def _died(self, n: int) -> None:
        self._deaths[n] += 1
        # Before anything else is handed out.
        self._looked = float("-inf")
        if self._deaths[n] < _TRIES:
            self._suspects.append(n)
        else:
            self._outcomes[n] = WorkerDied(CRASHED)
