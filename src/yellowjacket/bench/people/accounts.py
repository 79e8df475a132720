"""Accounts and their roles, and phones that are let in to one Shoot page; only where others can reach the application."""

from __future__ import annotations

import hashlib
import secrets
from datetime import datetime, timedelta

from django.contrib.auth.models import Group, User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.db import transaction

from yellowjacket.bench.models import PhonePass, Sitting, TrailEntry
from yellowjacket.bench.people import trail
from yellowjacket.bench.refusal import Refusal

TESTER, READER = "tester", "reader"
ROLES = (TESTER, READER)
# No letters and digits that are taken for each other.
_CODE_SIGNS = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789"
_CODE_LENGTH = 8
CODE_MINUTES, PHONE_HOURS = 10, 12
# After so many wrong codes within CODE_MINUTES none is taken until they have passed.
_MOST_WRONG = 5
WRONG_CODE = "wrong phone code"
_A_PHONE = "a phone"


def role_of(user: User) -> str:
    """What an account may do: all work, or look only."""
    # Groups that were fetched already are not asked for again.
    return TESTER if any(group.name == TESTER for group in user.groups.all()) else READER


def any_account() -> bool:
    """Whether anybody could sign in and work."""
    return User.objects.filter(is_active=True, groups__name=TESTER).exists()


@transaction.atomic
def add(name: str, role: str, password: str) -> User:
    """Make an account. Refuses names that are taken, unknown roles and weak passwords, with the reason."""
    _must_be_role(role)
    if User.objects.filter(username__iexact=name).exists():
        raise Refusal(f"There is an account {name!r} already.")
    user = User(username=name)
    try:
        user.clean_fields(exclude=["password"])
        validate_password(password, user)
    except ValidationError as error:
        raise Refusal(" ".join(error.messages)) from error
    user.set_password(password)
    user.save()
    user.groups.set([Group.objects.get_or_create(name=role)[0]])
    trail.note("account made", name, after=role)
    return user


@transaction.atomic
def change(name: str, *, role: str | None = None, password: str | None = None) -> User:
    """Give an account another role or password; another password ends its sessions."""
    user = named(name)
    if role is not None:
        _must_be_role(role)
        trail.note("role changed", name, before=role_of(user), after=role)
        user.groups.set([Group.objects.get_or_create(name=role)[0]])
    if password is not None:
        try:
            validate_password(password, user)
        except ValidationError as error:
            raise Refusal(" ".join(error.messages)) from error
        user.set_password(password)
        user.save(update_fields=["password"])
        trail.note("password changed", name)
    return user


@transaction.atomic
def close(name: str) -> None:
    """Nobody can sign in with the account any more; what it decided stays under its name."""
    user = named(name)
    user.is_active = False
    user.save(update_fields=["is_active"])
    trail.note("account closed", name)


def named(name: str) -> User:
    """The account of that name that is open. Refuses others."""
    user = User.objects.filter(username__iexact=name, is_active=True).first()
    if user is None:
        raise Refusal(f"There is no account {name!r}.")
    return user


def _must_be_role(role: str) -> None:
    if role not in ROLES:
        raise Refusal(f"There is no role {role!r}; there are {' and '.join(ROLES)}.")


def let_phone_in(sitting: Sitting, now: datetime) -> str:
    """A code for one phone, to be typed on it within minutes. It is not kept: show it at once."""
    code = "".join(secrets.choice(_CODE_SIGNS) for _ in range(_CODE_LENGTH))
    PhonePass.objects.create(
        sitting=sitting,
        code_sha256=_digest(code),
        made_by=trail.account(),
        code_until=now + timedelta(minutes=CODE_MINUTES),
    )
    trail.note("phone code given", sitting.name, sitting=sitting)
    return code


def redeem(code: str, now: datetime) -> PhonePass:
    """Let a phone in by its code, which is then used up. Refuses wrong, used and late ones alike, and after a few wrong ones
    every code for a while: none must be found by trying."""
    since = now - timedelta(minutes=CODE_MINUTES)
    if TrailEntry.objects.filter(act=WRONG_CODE, at__gt=since).count() >= _MOST_WRONG:
        raise Refusal(f"Too many wrong codes. Wait {CODE_MINUTES} minutes, then ask for a new one on the Shoot page.")
    with transaction.atomic():
        one = PhonePass.objects.filter(code_sha256=_digest(code), used_at__isnull=True, code_until__gt=now).first()
        if one is not None:
            one.used_at, one.open_until = now, now + timedelta(hours=PHONE_HOURS)
            one.save(update_fields=["used_at", "open_until"])
            trail.note("phone let in", one.sitting.name, sitting=one.sitting, person=_A_PHONE)
            return one
    trail.note(WRONG_CODE, "typed on a phone", person=_A_PHONE)
    raise Refusal("This code is wrong, used or too old. Ask for a new one on the Shoot page.")


def end_phone(phone: PhonePass, now: datetime) -> None:
    """The phone's access has ended."""
    phone.code_until = min(phone.code_until, now)
    phone.open_until = min(phone.open_until or now, now)
    phone.save(update_fields=["code_until", "open_until"])
    trail.note("phone sent away", phone.sitting.name, sitting=phone.sitting)


def phones(now: datetime) -> list[PhonePass]:
    """Phones that are let in now, and codes not used yet."""
    rows = PhonePass.objects.select_related("sitting")
    return [one for one in rows if (one.open_until or one.code_until) > now]


def _digest(code: str) -> str:
    """Codes are read aloud and typed on a phone: case, spaces and dashes do not matter."""
    plain = "".join(sign for sign in code.upper() if sign.isalnum())
    return hashlib.sha256(plain.encode()).hexdigest()
