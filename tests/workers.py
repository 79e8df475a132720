"""Functions for worker processes: importable there without Django."""

import os
import time
from pathlib import Path

from yellowjacket.core.raw.first_look import inspect_file


def no_patches(pair):
    return ()


def double_or_die(n):
    if n == 3:
        os._exit(9)
    if n == 4:
        raise ValueError("four")
    return 2 * n


def slowly(n):
    time.sleep(0.3)
    return 2 * n


def sleep(seconds):
    time.sleep(seconds)
    return seconds


class Odd(Exception):
    """Cannot be put together again from what it carries."""

    def __init__(self, one, other):
        super().__init__(one)


def odd_answer(what):
    if what == "error":
        raise Odd("a", "b")
    return (lambda: 0) if what == "lambda" else what


def touch(path):
    time.sleep(0.02)
    Path(path).touch()


def pid_then_sleep(seconds):
    time.sleep(seconds or 0.5)
    return os.getpid()


def stumbling(path):
    """Looks at a file as an import does, and meets with what nobody expected."""
    if "cursed" in path:
        raise KeyError("curse")
    return inspect_file(path)


def seen_as(path):
    """What a worker is told to open, in a sentence that nobody takes for a path."""
    return f"opened {path} in {Path.cwd()}"


def kill_at_three(path):
    """Of a file called 3.DNG this worker dies."""
    if Path(path).stem == "3":
        os._exit(9)
    return Path(path).read_bytes()
