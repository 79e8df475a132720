"""The command line: ``main`` is its door; accounts and files have modules of their own."""

from yellowjacket.cli.main import main

__all__ = ["main"]
