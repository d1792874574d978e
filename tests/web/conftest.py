"""A workshop for web tests: one craft with a configuration; flights are flown once and copied in."""

import hashlib
import re
from collections.abc import Callable
from typing import BinaryIO

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.http import HttpResponse
from django.test import Client, TestCase

from nembrit.core.analysis import run
from nembrit.core.analysis.flight import Flight as CoreFlight
from nembrit.core.analysis.run import FlightResults
from nembrit.core.formats import registry
from nembrit.core.records.raw import RawLog
from nembrit.demo.texts import JUNIPER_SETTINGS, NAME_MAP
from nembrit.web.bench import noise
from nembrit.web.bench.results import packed
from nembrit.web.flights.models import Flight
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import Configuration, Craft
from nembrit.web.logs import places, storage
from nembrit.web.tunes import services as tunes
from tests.flying import log_file

Attach = Callable[..., Flight]


class WorkingClient(Client):
    """A browser whose steps are followed by the jobs that they started, as if a worker stood beside.

    As in a browser, a template's line end is a space like any other.
    """

    def request(self, **request: object) -> HttpResponse:
        with TestCase.captureOnCommitCallbacks(execute=True):
            answer = super().request(**request)
        if answer.get("Content-Type", "").startswith("text/html") and not answer.streaming:
            answer.content = re.sub(rb"\n +", b" ", answer.content)
        return answer


@pytest.fixture
def client() -> Client:
    return WorkingClient()


_found: dict[str, FlightResults] = {}
_read: dict[str, RawLog] = {}
_packed: dict[int, tuple[object, bytes]] = {}


@pytest.fixture(autouse=True)
def nothing_remembered() -> None:
    """A test's rolled-back rows give their numbers to the next test's; a workshop's never come round again."""
    storage._pyramid_of.cache_clear()
    noise._spectra.cache_clear()
    places._stretches.cache_clear()


@pytest.fixture(autouse=True)
def analysed_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """The same recording gives the same evidence: it is computed once in a run."""

    def analyse(flight: CoreFlight, **options: object) -> FlightResults:
        digest = hashlib.sha256(
            repr((flight.mixer, flight.blades, flight.spans, flight.craft.surfaces, options.get("only"))).encode()
        )
        for role in sorted(flight.recording.channels):
            digest.update(role.encode() + flight.recording.channels[role].tobytes())
        key = digest.hexdigest()
        if key not in _found:
            _found[key] = run.analyse(flight, **options)
        return _found[key]

    monkeypatch.setattr("nembrit.web.bench.results.analyse", analyse)


@pytest.fixture(autouse=True)
def packed_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """The same answer is packed once in a run."""

    def once(result: object) -> bytes:
        if id(result) not in _packed:
            _packed[id(result)] = result, packed(result)  # held, so that no other object gets its number
        return _packed[id(result)][1]

    monkeypatch.setattr("nembrit.web.bench.results.packed", once)


@pytest.fixture(autouse=True)
def read_once(monkeypatch: pytest.MonkeyPatch) -> None:
    """The same file gives the same table, and the same channel the same package: each is made once in a run."""

    def read_raw(content: bytes | BinaryIO, **options: object) -> RawLog:
        if not isinstance(content, bytes):
            content.seek(0)
        raw = content if isinstance(content, bytes) else content.read()
        key = hashlib.sha256(raw).hexdigest()
        if key not in _read:
            _read[key] = registry.read_raw(raw, **options)
        return _read[key]

    monkeypatch.setattr("nembrit.web.intake.services.read_raw", read_raw)


@pytest.fixture
def craft(db: None) -> Craft:
    made = hangar.create_craft(layout="hex", name="Pebble", kind="multirotor", propeller_diameter_in=6.0)
    hangar.paste_configuration(made, JUNIPER_SETTINGS)
    hangar.save_name_map(made, {name: entry for name, entry in NAME_MAP.items() if f"{name} =" in JUNIPER_SETTINGS})
    hangar.add_build_entry(made, part="as built", faults={"loose_mount": 1.0})
    return made


@pytest.fixture
def configuration(craft: Craft) -> Configuration:
    return craft.configurations.get()


@pytest.fixture
def attach(craft: Craft, client: Client) -> Attach:
    """Attach a flight's file the way the page does, with its jobs done."""

    def do(content: bytes | None = None, name: str = "flight.csv", **fields: str) -> Flight:
        data = {"files": [SimpleUploadedFile(name, content or log_file(5, 1.0))], "card_key": "response", **fields}
        answer = client.post(f"/craft/{craft.pk}/logs/attach/", data)
        assert answer.status_code == 200, answer.content.decode()
        return craft.flights.first()

    return do


@pytest.fixture
def slip_text() -> tunes.SlipText:
    return tunes.SlipText(title="a change", why="", expect="", risk="", primary_metric="motor_roughness", direction="lower")


@pytest.fixture
def act(client: Client):
    """Post a form and give the page that follows as text."""

    def do(path: str, **data: object) -> str:
        return client.post(path, data, follow=True).content.decode()

    return do


@pytest.fixture
def bring(client: Client):
    """Lay files in the inbox, jobs done."""

    def do(*files: tuple[str, bytes], path: str = "/inbox/", **fields: str) -> str:
        uploads = [SimpleUploadedFile(name, content) for name, content in files]
        return client.post(path, {"files": uploads, **fields}, headers={"HX-Request": "true"}).content.decode()

    return do
