"""What the stories of the demo's craft have in common: days, packs, settings, flights."""

from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta

from nembrit.demo.texts import NAME_MAP
from nembrit.web.bench.results import JOB
from nembrit.web.common.jobs import run_job
from nembrit.web.common.models import Job
from nembrit.web.hangar import services as hangar
from nembrit.web.hangar.models import BuildEntry, Configuration, Craft
from nembrit.web.simulator import services as simulator
from nembrit.web.tunes.models import Slip

Tell = Callable[[str], None]
FIRST_DAY = datetime(2026, 10, 17, 14, 5, tzinfo=UTC)
PACKS, INDOOR_PACKS = ("pack 1", "pack 2", "pack 3", "pack 4"), ("indoor 1", "indoor 2")


def dated(slip: Slip, at: datetime) -> None:
    """A slip and what it made, written on that day."""
    Slip.objects.filter(pk=slip.pk).update(created_at=at)
    BuildEntry.objects.filter(slips_to=slip).update(made_at=at)
    Configuration.objects.filter(slips_to=slip).update(created_at=at)


def configured(
    craft: Craft, text: str, *, note: str, at: datetime, meanings: Mapping[str, tuple[str, float | None]] = NAME_MAP
) -> Configuration:
    configuration = hangar.paste_configuration(craft, text, note=note)
    names = configuration.settings.values_list("name", flat=True)
    hangar.save_name_map(craft, {name: meanings.get(name, ("", None)) for name in names})
    Configuration.objects.filter(pk=configuration.pk).update(created_at=at)
    return configuration


def fly(
    craft: Craft,
    configuration: Configuration,
    *,
    seeds: range,
    start: datetime,
    tell: Tell,
    wind_m_s: float = 2.0,
    card_key: str = "response",
) -> None:
    """Fly in a row; the helper analyses what is flown meanwhile."""
    packs = INDOOR_PACKS if wind_m_s == 0 else PACKS
    for number, seed in enumerate(seeds):
        tell(f"  {craft.name}, flight {number + 1} of {len(seeds)} with {configuration}")
        log = simulator.request_simulation(
            craft,
            card_key=card_key,
            configuration=configuration,
            seed=seed,
            wind_m_s=wind_m_s,
            pack_charge_ratio=0.95,
            flight_fields={
                "pack": packs[seed % len(packs)],
                "flown_at": (start + timedelta(minutes=6 * number)).isoformat(),
                "conditions": "indoors" if wind_m_s == 0 else "light wind, dry",
            },
        )
        simulator.fly_in_simulator(log)
        finish_jobs()


def finish_jobs() -> None:
    """Do the queued jobs here and now but the analyses, which the helper does; the worker will find them done."""
    while job := Job.objects.unfinished().exclude(kind=JOB).order_by("pk").first():
        run_job.call(job.pk)
        job.refresh_from_db()
        if job.state != Job.State.DONE:
            raise RuntimeError(f"the demo could not be built: {job.label}: {job.error}")
