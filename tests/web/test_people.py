"""Where others reach the application: signing in, roles, phones, guests, and the trail of decisions."""

import re
from datetime import timedelta

import pytest
from django.contrib.auth.models import User
from django.urls import URLPattern, get_resolver, reverse
from django.utils import timezone

from tests.web.conftest import ReadingClient as Client
from yellowjacket.bench.look import blind_rounds
from yellowjacket.bench.models import BlindRound, PhonePass, TrailEntry
from yellowjacket.bench.people import accounts
from yellowjacket.bench.record import record as record_
from yellowjacket.bench.refusal import Refusal

pytestmark = pytest.mark.django_db
PASSWORD = "felt-and-pins-9"


@pytest.fixture
def open_to_others(settings):
    settings.SIGN_IN = True
    settings.REACHED_AT = ["bench.example"]


@pytest.fixture
def tester(open_to_others):
    return accounts.add("wren", accounts.TESTER, PASSWORD)


@pytest.fixture
def reader(open_to_others):
    return accounts.add("sedge", accounts.READER, PASSWORD)


def signed_in(name):
    client = Client()
    response = client.post(reverse("people:sign-in"), {"username": name, "password": PASSWORD})
    assert response.status_code == 302
    return client


def addresses(resolver=None, prefix=""):
    """Every address of the application with small numbers filled in, and its name."""
    for one in (resolver or get_resolver()).url_patterns:
        route = prefix + str(one.pattern)
        if isinstance(one, URLPattern):
            filled = re.sub(r"<(\w+):\w+>", lambda m: {"id": "1"}.get(m.group(1), "x"), route)
            yield "/" + filled, one
        else:
            yield from addresses(one, route)


def test_on_ones_own_machine_nobody_signs_in(client):
    assert client.get(reverse("desk:page")).status_code == 200
    assert "No sign-in: only this machine" in client.get(reverse("people:page")).content.decode()


def test_every_page_but_the_guests_and_the_doors_asks_for_a_sign_in(open_to_others, client):
    """Walks all routes, so that a page added later is asked for, too."""
    asked, open_ones = 0, set()
    for address, route in addresses():
        response = client.get(address)
        if response.status_code == 302 and response["Location"].startswith(reverse("people:sign-in")):
            asked += 1
        else:
            open_ones.add(route.name)
    assert asked > 100
    assert open_ones == {"sign-in", "phone", "page", "answer", "back", "picture", "side"}
    guests = {route.name for address, route in addresses() if address.startswith("/rounds/")}
    assert open_ones - {"sign-in", "phone"} == guests


def test_a_fragment_sends_the_whole_page_to_the_sign_in(open_to_others, client, sitting):
    response = client.get(reverse("look:wall", args=[sitting.pk]), headers={"HX-Request": "true"})
    assert response.status_code == 204
    assert response["HX-Redirect"] == reverse("people:sign-in")


def test_a_tester_does_all_work_and_it_is_noted_under_the_account(tester, sitting):
    client = signed_in("wren")
    use = sitting.uses.first()
    said = {"for_use": use.pk, "level": "usable", "decided": "200"}
    assert client.post(reverse("record:decide", args=[sitting.pk]), said).status_code == 200
    client.post(reverse("record:decide", args=[sitting.pk]), said | {"decided": "400"})
    newest, first = TrailEntry.objects.filter(act="decided")
    assert (newest.account, newest.before, newest.after) == ("wren", "ISO 200", "ISO 400")
    assert (first.before, first.after) == ("", "ISO 200")
    assert f"{use.name}, usable" in newest.what
    page = client.get(reverse("people:page")).content.decode()
    assert "ISO 400" in page
    assert "Sign out" in page
    assert 'name="signed_by" value="wren"' in client.get(reverse("record:page", args=[sitting.pk])).content.decode()
    assert client.post(reverse("people:sign-out")).status_code == 302
    assert client.get(reverse("desk:page")).status_code == 302


def test_a_reader_sees_everything_and_changes_nothing(reader, sitting):
    client = signed_in("sedge")
    assert 'data-role="reader"' in client.get(reverse("record:page", args=[sitting.pk])).content.decode()
    refused = 0
    for address, route in addresses():
        if not address.startswith(("/rounds/", "/phone/", "/people/")):
            response = client.post(address.replace("/1/", f"/{sitting.pk}/", 1))
            # 404 where the row does not exist before the method is even looked at cannot happen: the door comes first.
            assert response.status_code == 403, route
            refused += 1
    assert refused > 100
    before = sitting.ladders.get().spot_x
    client.get(reverse("look:wall", args=[sitting.pk]) + "?spot=7,7")
    assert sitting.ladders.get().spot_x == before
    changed = {"old_password": PASSWORD, "new_password1": "velvet-and-glass-4", "new_password2": "velvet-and-glass-4"}
    assert client.post(reverse("people:password"), changed).status_code == 302
    assert User.objects.get(username="sedge").check_password("velvet-and-glass-4")


def test_after_five_wrong_passwords_an_address_waits(tester, client):
    for _ in range(4):
        response = client.post(reverse("people:sign-in"), {"username": "wren", "password": "guess"})
        assert "name or password is wrong" in response.content.decode()
    client.post(reverse("people:sign-in"), {"username": "sedge", "password": "guess"})
    late = client.post(reverse("people:sign-in"), {"username": "wren", "password": PASSWORD})
    assert late.status_code == 429
    assert "Wait 15 minutes" in late.content.decode()
    assert client.get(reverse("desk:page")).status_code == 302


def test_a_closed_account_is_out_at_once(tester):
    client = signed_in("wren")
    accounts.close("wren")
    assert client.get(reverse("desk:page")).status_code == 302
    with pytest.raises(Refusal, match="no account"):
        accounts.change("wren", role=accounts.READER)


@pytest.mark.parametrize(
    ("name", "role", "password", "words"),
    [
        ("wren", "owner", PASSWORD, "no role"), ("wren", accounts.TESTER, "1234567890123", "entirely numeric"),
        ("wren", accounts.TESTER, "password123", "too common"), ("a b", accounts.TESTER, PASSWORD, "valid username"),
    ],
)  # fmt: skip
def test_what_makes_no_account(db, name, role, password, words):
    with pytest.raises(Refusal, match=words):
        accounts.add(name, role, password)


def test_a_phone_shoots_one_sitting_and_sees_nothing_else(tester, sitting, make_sitting):
    page = signed_in("wren").post(reverse("people:pair", args=[sitting.pk])).content.decode()
    code = re.search(r"data-code>([A-Z0-9 ]+)<", page).group(1)
    assert "http://bench.example:80/phone/" in page
    assert "<svg" in page
    assert PhonePass.objects.get().code_sha256 not in page
    phone, other = Client(), make_sitting(name="Another")
    let_in = phone.post(reverse("people:phone"), {"code": code.lower()})
    assert let_in["Location"] == reverse("shoot:page", args=[sitting.pk])
    assert phone.get(let_in["Location"]).status_code == 200
    noted = {"text": "lamp on", "kind": "note"}
    assert phone.post(reverse("shoot:note", args=[sitting.pk]), noted).status_code != 403
    for elsewhere in (
        reverse("shoot:page", args=[other.pk]),
        reverse("record:page", args=[sitting.pk]),
        reverse("desk:page"),
    ):
        assert phone.get(elsewhere).status_code == 403
    again = Client().post(reverse("people:phone"), {"code": code})
    assert again.status_code == 403
    assert "wrong, used or too old" in again.content.decode()
    accounts.end_phone(PhonePass.objects.get(), timezone.now())
    assert phone.get(let_in["Location"]).status_code == 302


def test_a_code_is_good_for_minutes_and_cannot_be_found_by_trying(sitting):
    now = timezone.now()
    late = accounts.let_phone_in(sitting, now - timedelta(minutes=accounts.CODE_MINUTES))
    with pytest.raises(Refusal, match="too old"):
        accounts.redeem(late, now)
    code = accounts.let_phone_in(sitting, now)
    for _ in range(4):
        with pytest.raises(Refusal, match="wrong"):
            accounts.redeem("AAAA AAAA", now)
    with pytest.raises(Refusal, match="Too many wrong codes"):
        accounts.redeem(code, now)
    later = now + timedelta(minutes=accounts.CODE_MINUTES + 1)
    assert accounts.redeem(accounts.let_phone_in(sitting, later), later).open_until > later


def test_a_guests_round_needs_no_account(open_to_others, measured, client):
    made = blind_rounds.begin(measured, measured.uses.first(), "", 1.0, BlindRound.Kind.LINE, guest_days=2)
    page = client.get(reverse("rounds:page", args=[made.token]))
    assert page.status_code == 200
    assert 'href="/"' not in page.content.decode()
    assert client.get(reverse("rounds:result", args=[measured.pk, made.pk])).status_code == 302


def test_what_was_signed_and_amended_is_on_the_trail(sitting):
    record = record_.open_record(sitting.ladders.get())
    for use in sitting.uses.all():
        for level in ("clean", "usable", "emergency"):
            record_.decide(record, use, level, 200, "Wren")
    record_.decide_other(record, "push, usable", "Web", "3 stops", "Wren")
    record_.decide_other(record, "push, usable", "Web", "", "Wren")
    record_.sign(record, "Wren")
    record_.amend(record, "Wren")
    acts = list(TrailEntry.objects.filter(sitting=sitting).values_list("act", "person", "before", "after")[:4])
    assert acts == [
        ("amended", "Wren", "version 1", "version 2"), ("signed", "Wren", "", ""), ("decided", "Wren", "3 stops", "open"),
        ("decided", "Wren", "", "3 stops"),
    ]  # fmt: skip


def test_the_history_is_fetched_when_it_is_opened(client, sitting):
    address = reverse("record:history", args=[sitting.pk])
    assert "No decisions yet" in client.get(address).content.decode()
    record_.decide(record_.open_record(sitting.ladders.get()), sitting.uses.first(), "usable", 200, "Wren")
    page, told = (client.get(one).content.decode() for one in (reverse("record:page", args=[sitting.pk]), address))
    assert f'hx-get="{address}"' in page
    assert "<td>decided</td>" not in page
    assert "<td>decided</td>" in told
    assert "ISO 200" in told


def test_signing_in_as_oneself_takes_no_wrong_password_back(tester, reader):
    """Nobody with an account guesses at the others' without end."""
    client = Client()
    statuses = []
    for _ in range(4):
        for _ in range(2):
            wrong = client.post(reverse("people:sign-in"), {"username": "wren", "password": "guess"})
            statuses.append(wrong.status_code)
        client.post(reverse("people:sign-in"), {"username": "sedge", "password": PASSWORD})
        client.post(reverse("people:sign-out"))
    assert statuses.count(200) == 4
    assert statuses[4:] == [429] * 4


def test_a_testers_own_round_is_answered_by_testers_only(reader, tester, measured, client):
    reader, tester = signed_in("sedge"), signed_in("wren")
    made = blind_rounds.begin(measured, measured.uses.first(), "Wren", 1.0)
    trial = blind_rounds.next_trial(made)
    address = reverse("rounds:answer", args=[made.token])
    for who in (reader, client):
        for url, data in ((address, {"trial": trial.token, "accepted": "yes"}),
                          (reverse("rounds:back", args=[made.token]), {}),
                          (reverse("rounds:page", args=[made.token]), {"person": "Sedge"})):  # fmt: skip
            assert who.post(url, data).status_code == 403
    assert client.get(reverse("rounds:page", args=[made.token])).status_code == 403
    assert reader.get(reverse("rounds:page", args=[made.token])).status_code == 200
    assert not made.trials.filter(answered_at__isnull=False).exists()
    assert tester.post(address, {"trial": trial.token, "accepted": "yes"}).status_code == 200
    assert made.trials.filter(answered_at__isnull=False).count() == 1


def test_pages_behind_a_sign_in_are_kept_by_no_cache(tester, client):
    tester = signed_in("wren")
    assert "no-store" in tester.get(reverse("desk:page"))["Cache-Control"]
    assert tester.get(reverse("desk:page"))["Cross-Origin-Resource-Policy"] == "same-origin"
    assert client.get(reverse("people:sign-in"))["Cross-Origin-Opener-Policy"] == "same-origin"
