"""What a scenario file holds, shown before anything is made of it."""

from __future__ import annotations

from dataclasses import dataclass, field

from django.core.files.uploadedfile import SimpleUploadedFile

from hollow_kettle.database.home import EXAMPLES
from hollow_kettle.plan.bridge.batteries import NOTED
from hollow_kettle.shelf.assets.services import plain_tag, plain_tags
from hollow_kettle.shelf.models import Asset, EquipmentType
from powercore.event import scenario as core
from powercore.event.plans import BatteryPlan


@dataclass(slots=True)
class FilePreview:
    """What bringing in a scenario file would do."""

    scenario: core.Scenario
    known: list[str] = field(default_factory=list)
    new: list[str] = field(default_factory=list)
    differ: list[str] = field(default_factory=list)
    #: What can't come onto the shelf, with the tag it would be mistaken for.
    taken: list[str] = field(default_factory=list)
    new_equipment: list[str] = field(default_factory=list)
    #: What the file says and this version has no place for.
    left_out: list[str] = field(default_factory=list)


def preview_scenario(content: bytes) -> FilePreview:
    """
    Read a scenario file and say what it would do; nothing is kept.

    Raises
    ------
    powercore.event.scenario.UnreadableScenario
        Naming the path of what is wrong.
    """
    scenario = core.decode(content)
    preview = FilePreview(scenario, left_out=core.unknown_fields(content))
    noted = {name for one in singles_of(scenario) for name, _ in one.noted}
    preview.left_out += [f"batteries[].{name}" for name in sorted(noted - {*NOTED})]
    shelf, tags = shelf_by_tag(), plain_tags()
    for battery in singles_of(scenario):
        asset = shelf.get(battery.tag.casefold())
        if asset is None:
            plain = plain_tag(battery.tag)
            if plain in tags:
                preview.taken.append(f"{battery.tag} (for {tags[plain]})")
            else:
                preview.new.append(battery.tag)
                tags[plain] = battery.tag
        elif asset.battery.chemistry != battery.pack.chemistry or (
            abs(asset.battery.nameplate_ah - battery.pack.nameplate_ah) > 0.01
        ):
            preview.differ.append(battery.tag)
        else:
            preview.known.append(battery.tag)
    names = {
        load.name or "load" for station in scenario.stations for load in station.loads
    }
    owned = set(EquipmentType.objects.values_list("name", flat=True))
    preview.new_equipment = sorted(names - owned)
    return preview


def examples() -> dict[str, str]:
    """Names of the example events that ship with the program, by their key."""
    found = {}
    for path in sorted(EXAMPLES.glob("*.json")):
        scenario = core.decode(path.read_bytes())
        stations = len(scenario.stations)
        found[path.stem] = (
            f"{scenario.name}: {scenario.purpose}, {stations} "
            f"station{'' if stations == 1 else 's'}, {scenario.span_min // 60} h"
        )
    return found


def example_file(key: str) -> SimpleUploadedFile | None:
    """An example as if it had been sent; None when there is none of that key."""
    path = EXAMPLES / f"{key}.json"
    if key not in examples():
        return None
    return SimpleUploadedFile(path.name, path.read_bytes())


def shelf_by_tag() -> dict[str, Asset]:
    return {one.tag.casefold(): one for one in Asset.objects.batteries()}


def singles_of(scenario: core.Scenario) -> list[BatteryPlan]:
    """Every battery by itself, also those of joined sets."""
    return [one for plan in scenario.batteries for one in plan.singles]
