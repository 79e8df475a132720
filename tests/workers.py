"""Functions for worker processes: importable there without Django."""

import os


def no_patches(pair):
    return ()


def double_or_die(n):
    if n == 3:
        os._exit(9)
    if n == 4:
        raise ValueError("four")
    return 2 * n
