"""Accounts at the command line: only whoever can use this machine makes them, gives roles and closes them."""

from __future__ import annotations

import argparse
import getpass
import sys
from collections.abc import Callable

from yellowjacket import data_folder


def add_to(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    """Add ``account`` with its parts to the commands."""
    parser = commands.add_parser("account", help="who may sign in when others can reach the application")
    parts = parser.add_subparsers(required=True, metavar="WHAT")
    add = parts.add_parser("add", help="make an account; the password is asked for")
    add.add_argument("name")
    add.add_argument("--role", choices=("tester", "reader"), default="tester", help="all work, or look only")
    add.set_defaults(run=_run(_add))
    role = parts.add_parser("role", help="give an account another role")
    role.add_argument("name")
    role.add_argument("role", choices=("tester", "reader"))
    role.set_defaults(run=_run(_role))
    password = parts.add_parser("password", help="give an account another password, which is asked for")
    password.add_argument("name")
    password.set_defaults(run=_run(_password))
    close = parts.add_parser("close", help="let nobody sign in with an account any more")
    close.add_argument("name")
    close.set_defaults(run=_run(_close))
    parts.add_parser("list", help="accounts, their roles, and when they were last here").set_defaults(run=_run(_list))


def _run(action: Callable[[argparse.Namespace], None]) -> Callable[[argparse.Namespace], int]:
    """The action with the database ready, and refusals as any other error of the command line."""

    def run(arguments: argparse.Namespace) -> int:
        data_folder.set_up_django()
        from yellowjacket import serving
        from yellowjacket.bench.refusal import Refusal

        serving.prepare_database()
        try:
            action(arguments)
        except Refusal as refusal:
            raise ValueError(str(refusal)) from refusal
        return 0

    return run


def _asked_password() -> str:
    """Twice at a terminal; one line where it comes from another program."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    password = getpass.getpass("Password: ")
    if getpass.getpass("Once more: ") != password:
        raise ValueError("the two passwords differ; nothing was changed")
    return password


def _add(arguments: argparse.Namespace) -> None:
    from yellowjacket.bench.people import accounts

    accounts.add(arguments.name, arguments.role, _asked_password())
    print(f"{arguments.name} may sign in as {arguments.role}.")


def _role(arguments: argparse.Namespace) -> None:
    from yellowjacket.bench.people import accounts

    accounts.change(arguments.name, role=arguments.role)
    print(f"{arguments.name} is a {arguments.role} now.")


def _password(arguments: argparse.Namespace) -> None:
    from yellowjacket.bench.people import accounts

    accounts.named(arguments.name)
    accounts.change(arguments.name, password=_asked_password())
    print(f"{arguments.name} has another password; whoever was signed in with the old one is not any more.")


def _close(arguments: argparse.Namespace) -> None:
    from yellowjacket.bench.people import accounts

    accounts.close(arguments.name)
    print(f"Nobody can sign in as {arguments.name} any more; what was decided under the name stays.")


def _list(_arguments: argparse.Namespace) -> None:
    from django.contrib.auth.models import User

    from yellowjacket.bench.people import accounts

    for user in User.objects.filter(is_active=True).order_by("username"):
        seen = f"last here {user.last_login:%Y-%m-%d %H:%M} UTC" if user.last_login else "never here"
        print(f"{user.username}  {accounts.role_of(user)}  {seen}")
