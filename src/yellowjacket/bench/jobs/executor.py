"""Running pure functions over many inputs in worker processes; a worker that dies costs one input at most.

Every worker has a pipe of its own and one input at a time, so that a process that is killed, or takes too long, is known
to have held exactly one, and is replaced by a new one without the others noticing.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import pickle
import resource
import signal
import threading
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from multiprocessing.connection import Connection, wait
from multiprocessing.reduction import ForkingPickler
from pathlib import Path
from typing import Any, Final, TypeVar

from yellowjacket.bench.jobs.cluster import run_on
from yellowjacket.bench.jobs.worker_died import CRASHED, TOO_LONG, WorkerDied
from yellowjacket.core.raw.frame import FrameError

Item = TypeVar("Item")
Result = TypeVar("Result")

# No honest file takes so long (s): a frame of 150 MP is decoded and measured in well under a tenth of it.
LONGEST_S = 120.0
# Address of a Dask scheduler, tcp://host:8786; unset, the work is done by processes of this machine.
SCHEDULER_VARIABLE = "YELLOWJACKET_DASK_SCHEDULER"
_THREADS = ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS")
_LOADED = ["yellowjacket.bench.jobs.loaded"]
_METHOD: Final = "forkserver"


def frame_error(path: Path, error: Exception) -> FrameError:
    """Why a file could not be read, whatever it was that stumbled over it: what a file says and holds is a claim, and any
    exception costs that file one line."""
    if isinstance(error, FrameError):
        return error
    if isinstance(error, WorkerDied):
        return FrameError(
            path, "crash", f"could not be read: {error}.", "Copy it from the card again, or leave it out."
        )
    if isinstance(error, MemoryError):
        return FrameError(
            path, "memory", "asks for more memory than this machine has.", "Copy it again, or leave it out."
        )
    return FrameError(
        path, "unexpected", f"could not be read: {type(error).__name__} while it was decoded.",
        "Leave it out, or convert it to DNG.",
    )  # fmt: skip


# In a worker.


def _attend(connection: Connection) -> None:
    """The life of a worker: one call after the other, until the pipe ends."""
    # What decodes raw files asks how this process came to be, and warns of forks that had threads.
    multiprocessing.set_start_method(_METHOD, force=True)
    # Ctrl-C is for the parent, which ends its workers in order.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    # More than this machine has is never given to one file.
    total = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    resource.setrlimit(resource.RLIMIT_AS, (total, total))
    threading.Thread(target=_end_with_parent, daemon=True).start()
    with contextlib.suppress(EOFError, OSError):
        while True:
            connection.send_bytes(_answer(connection.recv_bytes()))


def _end_with_parent() -> None:
    """A worker whose parent was killed ends at once, whatever it is doing."""
    parent = multiprocessing.parent_process()
    if parent is not None:
        wait([parent.sentinel])
    os._exit(1)


def _answer(call: bytes) -> bytes:
    try:
        function, item = pickle.loads(call)  # noqa: S301 - from our own parent
        outcome: tuple[bool, Any] = (True, function(item))
    except Exception as error:
        outcome = (False, error)
    try:
        packed = bytes(ForkingPickler.dumps(outcome))
        if not outcome[0]:
            # Exceptions with arguments of their own may only fail when they are put together again.
            pickle.loads(packed)  # noqa: S301 - our own, of a moment ago
    except Exception:
        packed = bytes(ForkingPickler.dumps((False, RuntimeError(repr(outcome[1])[:400]))))
    return packed


# In the parent.


class _Worker:
    """A process that carries out calls, one at a time."""

    def __init__(self) -> None:
        # There is a worker for every core: what they compute with must not start threads of its own beside them.
        for name in _THREADS:
            os.environ.setdefault(name, "1")
        # Forks of a process that has loaded what they run and nothing else: one of this process, with its threads and its
        # database connection, would be no place to decode in.
        context = multiprocessing.get_context(_METHOD)
        context.set_forkserver_preload(_LOADED)
        self._connection, theirs = context.Pipe()
        self._process = context.Process(target=_attend, args=(theirs,), daemon=True)
        self._process.start()
        theirs.close()

    @property
    def pid(self) -> int | None:
        """Of its process."""
        return self._process.pid

    @property
    def alive(self) -> bool:
        """Whether it can be given something to do."""
        return self._process.is_alive()

    def call(self, function: Callable[[Item], Result], item: Item, longest_s: float) -> Result | Exception:
        """The result, or the exception the function raised. Raises WorkerDied; the worker is of no use then."""
        try:
            self._connection.send((function, item))
            if not wait([self._connection, self._process.sentinel], longest_s):
                self.end()
                raise WorkerDied(TOO_LONG, too_long=True)
            fine, outcome = pickle.loads(self._connection.recv_bytes())  # noqa: S301 - from our own process
        except (EOFError, OSError) as error:
            self.end()
            raise WorkerDied(CRASHED) from error
        if fine or isinstance(outcome, Exception):
            return outcome
        return RuntimeError(repr(outcome))

    def end(self) -> None:
        """At once: a decoder that hangs hears no polite request."""
        self._process.kill()
        self._process.join(1)
        self._connection.close()


class _Workers:
    """The workers of this process: started when they are needed, kept for the next call, replaced when they died."""

    def __init__(self) -> None:
        self._idle: list[_Worker] = []
        self._lock = threading.Lock()
        # However many ask at once, no more decode than there are cores.
        self._places = threading.Semaphore(os.cpu_count() or 1)

    @contextlib.contextmanager
    def one(self) -> Iterator[_Worker]:
        """A worker of one's own for a while."""
        with self._places:
            worker = self._taken() or _Worker()
            try:
                yield worker
            finally:
                if worker.alive:
                    with self._lock:
                        self._idle.append(worker)

    def start_one(self) -> None:
        """Have one that waits for work, before there is any."""
        with self.one() as worker:
            worker.call(len, (), LONGEST_S)

    def _taken(self) -> _Worker | None:
        with self._lock:
            while self._idle:
                worker = self._idle.pop()
                if worker.alive:
                    return worker
        return None

    def idle(self) -> list[_Worker]:
        """Those that wait for work."""
        with self._lock:
            return list(self._idle)


WORKERS = _Workers()


def run_one(function: Callable[[Item], Result], item: Item) -> Result:
    """One call in a worker process, bounded in time and memory like all of them. Raises what the function raised, and
    WorkerDied."""
    with WORKERS.one() as worker:
        outcome = worker.call(function, item, LONGEST_S)
    if isinstance(outcome, Exception):
        raise outcome
    return outcome


def run_all(
    function: Callable[[Item], Result], items: Sequence[Item], *, here: bool = False
) -> Iterator[tuple[Item, Result | Exception]]:
    """Yield (item, result or exception) in the order of the items; what was not started is dropped on close.

    Where there is a cluster it does the work, but not what is to be done ``here``: writing files, or looking at little of
    many, which is not worth sending them. Refuses a cluster that does not answer.

    An input that takes longer than LONGEST_S comes back as WorkerDied. One whose worker was killed is tried twice more,
    alone, after all others: memory may have been short, and only what kills three times is guilty.
    """
    if not here and (address := os.environ.get(SCHEDULER_VARIABLE, "")):
        yield from run_on(address, function, items, LONGEST_S)
        return
    run = _Run(function, items)
    lost: list[Item] = []
    try:
        for n, item in enumerate(items):
            outcome = run.outcome(n)
            if isinstance(outcome, WorkerDied) and not outcome.too_long:
                lost.append(item)
            else:
                yield item, outcome
    finally:
        run.close()
    for item in lost:
        yield item, _alone(function, item)


def _alone(function: Callable[[Item], Result], item: Item) -> Result | Exception:
    """The outcome of an input that lost its worker once, tried by itself."""
    for last in (False, True):
        outcome = _outcome(function, item)
        if last or not isinstance(outcome, WorkerDied) or outcome.too_long:
            return outcome
    raise AssertionError("unreachable")


def _outcome(function: Callable[[Item], Result], item: Item) -> Result | Exception:
    try:
        return run_one(function, item)
    except Exception as error:
        return error


class _Run:
    """Inputs on their way through the workers; as many threads as there are cores hand them out and wait for answers."""

    def __init__(self, function: Callable[[Any], Any], items: Sequence[Any]) -> None:
        self._function = function
        self._waiting = deque(enumerate(items))
        self._outcomes: dict[int, Any] = {}
        self._told = threading.Condition()
        for _ in range(min(os.cpu_count() or 1, len(items))):
            threading.Thread(target=self._hand_out, daemon=True).start()

    def _hand_out(self) -> None:
        while True:
            try:
                n, item = self._waiting.popleft()
            except IndexError:
                return
            outcome = _outcome(self._function, item)
            with self._told:
                self._outcomes[n] = outcome
                self._told.notify_all()

    def outcome(self, n: int) -> Any:
        """Of the n-th input, as soon as it is there."""
        with self._told:
            self._told.wait_for(lambda: n in self._outcomes)
            return self._outcomes.pop(n)

    def close(self) -> None:
        """What was not started is not."""
        self._waiting.clear()
