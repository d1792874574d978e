"""What repairs proved: told on the slip, counted on the craft, exported as an open file that the fit reads."""

import json
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from django.test import Client

from benchmarks.fit_causes import exported
from nembrit.core.errors import InputError
from nembrit.web.hangar.models import Craft
from nembrit.web.tunes import services, truths
from nembrit.web.tunes.models import Decision, Slip, Truth
from nembrit.web.tunes.services import tune_of

pytestmark = pytest.mark.django_db


def repaired(craft: Craft, *, is_decided: bool = True, group: str = "hardware", code: str = "loose_mount") -> Slip:
    tune = tune_of(craft)
    slip = Slip.objects.create(
        tune=tune, number=tune.slips.count() + 1, group=group, title="Tightened the tray", cause_code=code,
        primary_metric="motion_noise.roll",
    )  # fmt: skip
    if is_decided:
        services.decide(slip, Decision.Outcome.KEEP)
        slip.refresh_from_db()
    return slip


def test_told_counted_and_exported(client: Client, craft: Craft, tmp_path: Path) -> None:
    right, wrong, unclaimed = repaired(craft), repaired(craft, code="propeller"), repaired(craft, code="")
    for slip, cause, words in ((right, "loose_mount", ""), (wrong, "other", "a loose battery strap"), (unclaimed, "bearing", "")):
        answer = client.post(f"/slips/{slip.pk}/truth/", {"cause": cause, "words": words}, follow=True)
        assert "Fault recorded" in answer.content.decode()
    Truth.objects.filter(slip=right).update(measured={"hump_weaker_db": 7.5})
    page = client.get(f"/craft/{craft.pk}/tune/").content.decode()
    assert "right cause in 1 of 2 repairs" in page
    assert "a loose battery strap" in page
    sent = client.get(f"/craft/{craft.pk}/findings.json")
    assert "attachment" in sent["Content-Disposition"]
    document = sent.json()
    jsonschema.validate(document, json.loads(Path("docs/schemas/findings.schema.json").read_text(encoding="utf-8")))
    assert (document["schema"], len(document["findings"])) == ("nembrit.findings/1", 3)
    assert set(document["findings"][0]) == {"claimed", "confidence", "truth", "values"}  # no samples, no places, no names
    (tmp_path / "rows.json").write_text(json.dumps(document))
    rows = exported(tmp_path / "rows.json")
    assert [row["causes"] for row in rows] == [["loose_mount"], ["bearing"]]  # what no cause stands for teaches nothing
    assert rows[0]["values"] == {"hump_weaker_db": 7.5}


@pytest.mark.parametrize(
    ("changes", "cause", "words", "refused"),
    [
        ({"is_decided": False}, "loose_mount", "", "decide the repair first"),
        ({"group": "pd.roll"}, "loose_mount", "", "only a repair"),
        ({}, "gremlins", "", "from the list"),
        ({}, "other", "  ", "in a few words"),
    ],
)
def test_refused(craft: Craft, changes: dict[str, Any], cause: str, words: str, refused: str) -> None:
    with pytest.raises(InputError, match=refused):
        truths.tell(repaired(craft, **changes), cause, words=words)
    assert not Truth.objects.exists()


def test_told_again_replaces(craft: Craft) -> None:
    slip = repaired(craft)
    truths.tell(slip, "bearing")
    truths.tell(slip, "loose_mount")
    assert truths.record_of(craft).n_right == 1
    assert Truth.objects.count() == 1
