"""Kits: their path and findings, contents, versions, packing, paper."""

import io
from dataclasses import replace
from datetime import timedelta

import pytest
from django.core.exceptions import SuspiciousFileOperation, ValidationError
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import IntegrityError, transaction
from django.template.loader import render_to_string
from django.urls import reverse
from PIL import Image
from pypdf import PdfReader

from hollow_kettle.log.models import FieldEntry
from hollow_kettle.people.club import today
from hollow_kettle.shelf.assets import attachments
from hollow_kettle.shelf.assets.services import save_asset
from hollow_kettle.shelf.kinds import CONNECTOR_CHOICES, KINDS
from hollow_kettle.shelf.kits import services as kits
from hollow_kettle.shelf.kits.bridge import kit_of, mass_kg, rows_of_kit
from hollow_kettle.shelf.kits.findings import counted, shown_findings, standing_stops
from hollow_kettle.shelf.kits.page import (
    card_findings,
    containers,
    kit_page,
    packing_of,
)
from hollow_kettle.shelf.models import Asset, KitItem, PathPart
from hollow_kettle.shelf.prints import paper
from powercore.gear.checks import CAUTION, STOP


def findings(kit):
    """Ids and places of what stands against a kit."""
    page = kit_page(kit)
    return {one.finding.rule.id for one in (*page["shown"], *page["more"])}


def part_of(kit, what):
    """The first part of a kind."""
    return kit.path.filter(what=what).first()


def test_the_usual_path_reaches_the_core_as_it_was_laid(kit):
    """Battery, fuse, wire, joint, radio, in this order; 21 A key down."""
    page = kit_page(kit)

    core = page["kit"]
    way = core.way_to(core.devices[0].key)
    assert [type(part).__name__ for part in way] == ["Fuse", "Cable", "Joint", "Feeds"]
    assert core.members[0].battery.tag == "K01"
    assert page["drawing"].total == "21.0 A"
    assert page["weakest"].part.name == "main fuse"


def test_a_page_shows_at_most_five_findings_and_the_drawing_flags_them(kit, boss):
    """Stops first; the same numbers on the parts they concern."""
    part = part_of(kit, "cable")
    kits.save_part(kit, part, what="cable", after=part.after, awg=18, length_m=4.0)
    page = kit_page(kit)

    assert len(page["shown"]) <= 5
    first = page["shown"][0]
    assert first.finding.severity == "stop"
    flagged = {flag for box in page["drawing"].boxes for flag in box.flags}
    assert (first.number, "stop") in flagged
    text = boss.get(reverse("shelf:kit_detail", args=[kit.pk])).content.decode()
    assert "AWG 18, 4 m carries 10 A; the fuse before it is 25 A" in text


def test_taking_a_part_out_hangs_what_follows_on_what_was_before(kit):
    """Without the fuse the wire hangs on the battery, and nothing fuses it."""
    kits.delete_part(part_of(kit, "fuse"))

    assert part_of(kit, "cable").after is None
    assert "fuse-missing" in findings(kit)


def test_a_part_can_go_between_and_never_hang_on_itself(kit):
    """A switch between wire and joint; the wire after the joint is refused."""
    wire, joint = part_of(kit, "cable"), part_of(kit, "joint")
    switch = kits.save_part(
        kit, None, what="switch", after=wire, amps=20.0, is_between=True
    )
    joint.refresh_from_db()

    assert joint.after == switch
    with pytest.raises(ValidationError, match="can't be fed by what it feeds"):
        kits.save_part(kit, wire, what="cable", after=joint)


@pytest.mark.parametrize(
    ("data", "words"),
    [
        ({"what": "load"}, "Say which one it is"),
        ({"what": "switch"}, "A switch or block has a rating"),
        ({"what": "joint"}, "Say which connector it is"),
        ({"what": "joint", "connector": "vehicle"}, "say plug or socket"),
        ({"what": "cable", "length_m": "-2"}, "between 0 and 500 m"),
        ({"what": "fuse", "amps": "many"}, "must be a plain number"),
    ],
)
def test_a_part_that_makes_no_sense_is_refused_by_its_field(kit, boss, data, words):
    """The page says what is needed; the path stays as it was."""
    before = kit.path.count()

    response = boss.post(
        reverse("shelf:kit_path", args=[kit.pk]), {"style": "blade"} | data
    )

    assert response.status_code == 422
    assert words in response.content.decode()
    assert kit.path.count() == before


def test_the_database_itself_holds_the_parts(kit):
    """A load without a device and a temporary part without a date can't be."""
    with pytest.raises(IntegrityError), transaction.atomic():
        PathPart.objects.create(kit=kit, what="load")
    with pytest.raises(IntegrityError), transaction.atomic():
        kit.build_notes.create(what="temporary", words="tape", made_on=today())


def test_an_accepted_finding_stays_visible_until_its_date(kit, marin, boss):
    """With reason and name; a past or far date is refused; it can count again."""
    kits.delete_part(part_of(kit, "fuse"))
    key = next(
        one.finding.key
        for one in kit_page(kit)["shown"]
        if one.finding.rule.id == "fuse-missing"
    )
    url = reverse("shelf:finding_accept", args=[kit.pk])
    day = today() + timedelta(days=30)
    data = {"key": key, "reason": "bench only", "until": day.isoformat()}

    late = boss.post(url, data | {"until": "2001-01-01"})
    assert late.status_code == 422
    boss.post(url, data)

    accepted = kit_page(kit)["accepted"]
    assert [one.acceptance.reason for one in accepted] == ["bench only"]
    assert "fuse-missing" not in findings(kit)
    with transaction.atomic():  # no text holds NUL
        url = reverse("shelf:finding_reopen", args=[kit.pk])
        assert boss.post(url, {"key": "a\0b"}).status_code == 400
        transaction.set_rollback(True)
    boss.post(reverse("shelf:finding_reopen", args=[kit.pk]), {"key": key})
    assert "fuse-missing" in findings(kit)


def test_a_temporary_part_past_its_date_is_a_finding_until_settled(kit, boss):
    """Through the records page."""
    url = reverse("shelf:kit_records", args=[kit.pk])
    form = {"record": "note", "what": "temporary", "words": "tape on the lid"}
    assert boss.post(url, form).status_code == 422
    boss.post(url, form | {"due_on": (today() - timedelta(days=3)).isoformat()})
    assert "temporary-overdue" in findings(kit)

    note = kit.build_notes.get(what="temporary")
    boss.post(reverse("shelf:note_done", args=[note.pk]))
    assert "temporary-overdue" not in findings(kit)


def test_a_trial_is_on_record_and_one_that_failed_stays_open(kit, boss):
    """Pass or fail with what was seen; nothing without a result, nothing from later."""
    url = reverse("shelf:kit_records", args=[kit.pk])
    form = {"record": "trial", "what": "transfer", "words": "radio dropped out, 0.4 s"}
    later = (today() + timedelta(days=1)).isoformat()
    assert boss.post(url, form).status_code == 422
    assert (
        boss.post(url, form | {"result": "pass", "made_on": later}).status_code == 422
    )

    boss.post(url, form | {"result": "fail"})
    boss.post(url, form | {"result": "pass", "words": "12 A, no break"})

    page = " ".join(boss.get(url).content.decode().split())
    assert [trial.has_passed for trial in kit.trials.all()] == [True, False]
    item = kit.build_notes.get(what="shakedown")
    assert item.words.endswith("failed: radio dropped out, 0.4 s")
    assert "failed </td>" in page
    assert "12 A, no break" in page


def test_a_kit_is_never_in_itself_and_mass_counts_each_thing_once(kit, marin):
    """A bag in the kit, the kit in the bag: refused. Masses add up by hand."""
    bag = save_asset(KINDS["kit"], None, by=marin, tag="Q02", mass_kg=1.0)
    kits.save_item(kit, None, asset=bag)
    kits.save_item(bag, None, name="pegs", count=10, mass_kg=0.1)
    Asset.objects.filter(tag="R01").update(mass_kg=4.0)
    Asset.objects.filter(tag="K01").update(mass_kg=2.5)

    with pytest.raises(ValidationError, match="can't be in itself"):
        kits.save_item(bag, None, asset=kit)
    rows = rows_of_kit(kit)
    assert mass_kg(rows) == pytest.approx(1.0 + 10 * 0.1 + 4.0 + 2.5)
    assert kit_of(rows, today()).other_mass_kg == pytest.approx(6.0)


def test_what_does_not_fit_into_its_box_is_said(kit, boss):
    """Litres of things against what the box holds, with the gaps they leave."""
    kit.kit.boxes = "Lid 12, bag 2,5 L"
    kit.kit.save()
    kits.save_item(kit, None, name="jacket", container="bag", volume_l=2.0)
    kits.save_item(kit, None, name="pegs", container="lid", count=4, volume_l=2.0)
    boxes = {box.name: box for box in containers(rows_of_kit(kit))}
    assert (boxes["bag"].volume_l, boxes["bag"].holds_l) == (2.0, 2.5)
    assert not boxes["bag"].is_over_full
    assert (boxes["lid"].volume_l, boxes["lid"].is_over_full) == (8.0, False)

    kits.save_item(kit, None, name="tarp", container="lid", volume_l=3.0)
    page = " ".join(
        boss.get(reverse("shelf:packing", args=[kit.pk])).content.decode().split()
    )
    assert "11 of 12 L: it won't close" in page


def test_a_version_keeps_what_was_there(kit, marin):
    """What is taken out later still stands in it."""
    version = kits.cut_version(kit, why="before the change", by=marin)
    KitItem.objects.filter(name__startswith="spare").delete()

    assert version.number == 2
    assert any("spare 25 A fuses" in line["what"] for line in version.contents)


def test_packing_says_what_is_missing_and_ticking_twice_changes_nothing(kit, client_of):
    """Anybody signed in ticks; the lid may close when nothing is missing."""
    client = client_of("runner")
    client.get(reverse("shelf:packing", args=[kit.pk]))
    url = reverse("shelf:packing_tick", args=[kit.pk])
    for item in kit.items.all():
        for _ in range(2):
            client.post(
                url, {"item": item.pk, "on": "1"}, headers={"hx-request": "true"}
            )
    page = packing_of(kit, rows_of_kit(kit))
    assert page.packed == kit.items.count()
    assert not page.missing
    assert [line.item.asset.tag for line in page.not_full] == ["K01"]
    assert page.checks == ["switches off", "nothing draws", "terminals covered"]

    for check in ("switches_off", "load_off", "terminals_covered"):
        client.post(url, {"check": check, "on": "1"})
    text = client.post(
        url, {"item": kit.items.first().pk, "on": "0"}, headers={"hx-request": "true"}
    ).content.decode()
    assert "not proved full" in text
    assert len(packing_of(kit, rows_of_kit(kit)).missing) == 1


@pytest.mark.parametrize("size", ["a4", "letter", "a6"])
def test_a_card_is_of_its_paper_and_says_what_a_stranger_needs(kit, size):
    """Page size in points, steps in order, cautions."""
    page = PdfReader(io.BytesIO(paper.kit_card(kit_page(kit), size))).pages[0]
    text = page.extract_text()

    wide, high = paper.SIZES[size]
    assert float(page.mediabox.width) == pytest.approx(wide * 72 / 25.4, abs=1)
    assert float(page.mediabox.height) == pytest.approx(high * 72 / 25.4, abs=1)
    assert text.index("Switch on.") < text.index("Listen.")
    assert "Never feed a building" in text


def test_each_port_may_have_a_label_of_its_own(shelf):
    """Which way power goes, its volts and amps, what mates, and a warning."""
    battery = shelf["K01"]
    battery.ports.create(
        name="aux", connector=CONNECTOR_CHOICES[0][0], flow="out", low_v=11.5,
        high_v=14.4, max_a=20, is_reversed=True,
    )  # fmt: skip
    content = paper.label_sheet(
        [battery], next(iter(paper.SHEETS.values())), with_ports=True
    )
    words = " ".join(
        page.extract_text() for page in PdfReader(io.BytesIO(content)).pages
    )

    assert "K01 aux" in " ".join(words.split())
    assert "gives 11.5–14.4 V, 20 A" in " ".join(words.split())
    assert "REVERSED" in words


@pytest.mark.parametrize("sheet", sorted(paper.SHEETS))
def test_labels_fill_their_sheets_and_carry_the_tag(kit, sheet):
    """As many pages as labels need, beginning after those used up."""
    assets = list(Asset.objects.all())
    reader = PdfReader(io.BytesIO(paper.label_sheet(assets, paper.SHEETS[sheet], 2)))

    each = paper.SHEETS[sheet].each
    used = min(2, each - 1)
    assert len(reader.pages) == -(-(len(assets) + used) // each)
    text = "".join(page.extract_text() for page in reader.pages)
    assert all(asset.tag in text for asset in assets)


def test_a_printed_page_asks_nobody(kit):
    """Neither a host nor a file of the machine."""
    fetcher = paper.OwnFilesOnly()
    for url in ("https://example.org/x.png", "file:///etc/passwd"):
        with pytest.raises(ValueError, match="may not ask"):
            fetcher.fetch(url)
    with pytest.raises(SuspiciousFileOperation):
        fetcher.fetch("static:../../../etc/passwd")


def test_a_label_leads_to_its_asset_whatever_the_case(kit, boss):
    """The code is in capitals; the path holds no tag."""
    path = reverse("label", args=[kit.token])

    assert kit.tag not in path
    assert boss.get(path.upper()).headers["Location"] == kit.get_absolute_url()
    assert boss.get("/T/0123456789/").status_code == 404


def photo(width=3000, height=2000, form="JPEG"):
    """A picture with a place in it."""
    image = Image.new("RGB", (width, height), "teal")
    exif = Image.Exif()
    exif[0x010E] = "secret place"
    out = io.BytesIO()
    image.save(out, form, exif=exif)
    return SimpleUploadedFile("x/../Box open.JPG", out.getvalue())


def test_a_photo_is_made_anew_smaller_and_without_its_place(kit, marin, boss):
    """Served as a picture that can't run anything."""
    kept = attachments.attach(kit, file=photo(), words="open", by=marin)

    image = Image.open(io.BytesIO(bytes(kept.content)))
    assert max(image.size) == attachments.LONG_SIDE
    assert b"secret place" not in bytes(kept.content)
    assert kept.name == "Box-open.jpg"
    response = boss.get(reverse("shelf:attachment", args=[kept.pk]))
    assert response["Content-Type"] == "image/jpeg"
    assert response["X-Content-Type-Options"] == "nosniff"
    assert "sandbox" in response["Content-Security-Policy"]


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"<svg onload=alert(1)></svg>", "must be a JPEG"),
        (b"<!doctype html><script>1</script>", "must be a JPEG"),
        (b"MZ\x90\x00" + bytes(200), "must be a JPEG"),
        (b"%PDF-1.7" + bytes(6_000_000), "more than 5 MB"),
        (b"\xff\xd8\xff" + bytes(13_000_000), "more than 12 MB"),
    ],
)
def test_other_files_are_refused_with_what_is_allowed(kit, marin, content, words):
    """By what is in them, not by their name."""
    file = SimpleUploadedFile("photo.jpg", content)
    before = kit.attachments.count()

    with pytest.raises(ValidationError, match=words):
        attachments.attach(kit, file=file, words="", by=marin)
    assert kit.attachments.count() == before


def stopped(kit, marin):
    """Two stops: a thin wire behind the fuse, and a larger fuse than the maker's."""
    wire, fuse = part_of(kit, "cable"), part_of(kit, "fuse")
    kits.save_part(kit, fuse, what="fuse", after=None, amps=30.0)
    kits.save_part(kit, wire, what="cable", after=wire.after, awg=16, length_m=0.5)
    return standing_stops([kit], today())


def test_a_kit_with_stops_leaves_only_when_somebody_answers_for_each(kit, marin, boss):
    """Check-out asks; with a reason missing nothing goes and nothing is lost."""
    stops = stopped(kit, marin)
    url = reverse("shelf:check_out")
    data = {"tags": "Q01", "to_kind": "person", "to_name": "Heron"}
    first = boss.post(url, data)
    assert first.status_code == 422
    assert [stop.finding.rule.id for stop in stops] == [
        "fuse-above-wire", "fuse-not-makers",
    ]  # fmt: skip
    assert all(stop.finding.words in first.content.decode() for stop in stops)

    half = boss.post(url, data | {stops[0].name: "one hour in sight of it"})
    assert half.status_code == 422
    assert "one hour in sight of it" in half.content.decode()
    assert not kit.acceptances.exists()
    assert not FieldEntry.objects.filter(kind="check_out").exists()
    done = boss.post(
        url, data | {stop.name: f"because {n}" for n, stop in enumerate(stops)}
    )
    assert done.status_code == 302
    assert {one.made_by for one in kit.acceptances.all()} == {marin}
    assert not standing_stops([kit], today())
    asks = reverse("shelf:stops", args=[kit.pk])
    for after, to in (("/shelf/", "/shelf/"), ("1", None), ("//evil.example", None)):
        assert boss.get(asks, {"next": after}).url == (to or kit.get_absolute_url())

    wire = part_of(kit, "cable")
    kits.save_part(kit, wire, what="cable", after=wire.after, awg=18, length_m=0.5)
    (again,) = standing_stops([kit], today())  # worse than what was accepted
    assert "AWG 18" in again.finding.words


def test_card_and_lid_ask_for_the_stops_and_print_who_accepted(kit, marin, client_of):
    """Others are told whom to ask; the card then says who, and why."""
    stops = stopped(kit, marin)
    card = reverse("shelf:kit_card", args=[kit.pk])
    boss, lead = client_of("coordinator"), client_of("station_lead")
    assert "Only a coordinator can accept" in lead.get(card).content.decode()
    packing = kits.open_packing(kit, by=marin)
    answer = boss.post(reverse("shelf:packing_close", args=[kit.pk]))
    assert reverse("shelf:stops", args=[kit.pk]) in answer["Location"]
    packing.refresh_from_db()
    assert packing.closed_at is None

    url = reverse("shelf:stops", args=[kit.pk])
    bad = boss.post(url, {"next": card, stops[0].name: ""})
    assert bad.status_code == 422
    reasons = {stop.name: "spare wire is on its way" for stop in stops}
    assert boss.post(url, {"next": card} | reasons)["Location"] == card
    away = boss.post(url, {"next": "https://elsewhere.example/"})
    assert away["Location"] == kit.get_absolute_url()
    assert lead.get(card)["Content-Type"] == "application/pdf"
    for template in ("card", "packing"):
        text = render_to_string(
            f"shelf/paper/{template}.html",
            kit_page(kit) | {"page": packing_of(kit, rows_of_kit(kit)), "size": "a6"},
        )
        assert "Accepted by Marin: spare wire is on its way" in text


def test_a_kit_that_gives_nothing_promises_no_hours(kit, boss):
    """An empty fuse holder: no endurance under it, on page or card."""
    assert kit_page(kit)["gives"]
    guard = part_of(kit, "fuse")
    kits.save_part(kit, guard, what="fuse", after=None, amps=None)
    page = kit_page(kit)

    assert page["gives"] == []
    assert page["dead"].rule.id == "fuse-open"
    text = boss.get(kit.get_absolute_url()).content.decode()
    assert "Nothing as it is: main fuse has no fuse" in text.replace("Main", "main")


def test_an_empty_holder_of_something_else_takes_no_hours_away(kit, marin):
    """The radio has its own way; an empty holder is a stop all the same."""
    block = kits.save_part(kit, None, what="fuse", after=None, amps=30, name="second")
    lamp = save_asset(
        KINDS["device"], None, by=marin, tag="L9", name="lamp", receive_a=1.0
    )
    holder = kits.save_part(kit, None, what="fuse", after=block, name="lamp's holder")
    kits.save_part(kit, None, what="load", after=holder, asset=lamp)
    page = kit_page(kit)

    assert "fuse-open" in {one.finding.rule.id for one in page["shown"]}
    assert page["dead"] is None
    assert page["gives"]


def test_what_a_page_doesn_t_show_is_counted_by_weight(kit):
    """Four more stops, one caution."""
    shown = shown_findings(kit, kit_of(rows_of_kit(kit), today()), today())
    stop = replace(shown[0], finding=replace(shown[0].finding, severity=STOP))
    caution = replace(stop, finding=replace(stop.finding, severity=CAUTION))

    assert counted([stop] * 4 + [caution]) == "4 more stops, 1 caution"
    assert counted([caution]) == "1 more caution"
    found = card_findings([stop] * 7 + [caution])
    assert len(found.shown) == 5
    assert found.more == "2 more stops, 1 caution"


def test_batteries_in_boxes_and_inner_kits_count(kit, shelf, marin):
    """By air each battery is looked at, wherever it is packed."""
    inner = save_asset(KINDS["kit"], None, by=marin, tag="Q02")
    kits.save_part(inner, None, what="battery", asset=shelf["K02"])
    kits.save_item(kit, None, asset=inner)
    kits.save_item(kit, None, asset=shelf["K03"])

    value = kit_of(rows_of_kit(kit), today())
    assert [one.tag for one in value.batteries] == ["K01"]
    assert {one.tag for one in value.spares} == {"K02", "K03"}
