"""What scripts read and send: by token and role, once, and described by itself."""

import json
from datetime import timedelta
from pathlib import Path
from uuid import uuid4

import pytest
from django.test import Client
from django.urls import reverse
from jsonschema import Draft202012Validator

from hollow_kettle.api import services
from hollow_kettle.api.models import Token, TokenRole
from hollow_kettle.api.routes import api
from hollow_kettle.log.models import FieldEntry
from hollow_kettle.people.models import Deed
from hollow_kettle.plan.models import Event
from hollow_kettle.shelf.models import BenchTest
from tests.field.conftest import under_way  # noqa: F401 - a fixture

DESCRIBED = Path(__file__).resolve().parents[2] / "docs" / "formats" / "api-1.json"


@pytest.fixture
def script(marin):
    """Ask as a script of some role."""

    def _script(role=TokenRole.READER):
        _, secret = services.make_token(name=f"{role} script", role=role, by=marin)
        client = Client(headers={"Authorization": f"Bearer {secret}"})

        def ask(method, path, body=None, **headers):
            return client.generic(
                method, f"/api/1/{path}", json.dumps(body) if body is not None else "",
                content_type="application/json", headers=headers,
            )  # fmt: skip

        return ask

    return _script


def described():
    """The description as it is made from the code."""
    return json.loads(json.dumps(api.get_openapi_schema(path_prefix="/api/1/")))


def fits(path, answer):
    """Hold an answer against what the description says of it."""
    whole = described()
    operation = whole["paths"][f"/api/1/{path}"][
        answer.request["REQUEST_METHOD"].lower()
    ]
    said = operation["responses"][str(answer.status_code)]
    schema = said["content"]["application/json"]["schema"]
    schema = {**schema, "components": whole["components"]}
    Draft202012Validator(schema).validate(answer.json())
    return answer.json()


def test_the_description_that_is_published_is_the_code_s():
    """Made anew with `scripts/api.py`; each answer and each refusal has its shape."""
    assert json.loads(DESCRIBED.read_text()) == described()
    for path, methods in described()["paths"].items():
        for operation in methods.values():
            assert {"401", "404", "422"} <= set(operation["responses"]), path
    assert Client().get("/api/1/openapi.json").status_code == 200


def test_a_script_reads_what_pages_show(script, under_way, marin):  # noqa: F811
    """Shelf, event, rotation, board and log, each in its described shape."""
    ask, at = script(), f"events/{under_way.pk}"

    shelf = fits("shelf", ask("GET", "shelf?kind=battery"))
    assert [one["tag"] for one in shelf] == ["K01", "K02", "K03", "K04"]
    k04 = fits("shelf/{tag}", ask("GET", "shelf/k04"))
    assert (k04["hold"], k04["battery"]["trusted_ah"]) == ("swollen", 19.0)
    (event,) = fits("events", ask("GET", "events"))
    assert event == fits("events/{uid}", ask("GET", at))
    assert {one["name"] for one in event["stations"]} == {"Esker", "Drumlin"}
    plan = fits("events/{uid}/rotation", ask("GET", f"{at}/rotation"))
    assert plan["number"] == event["published"]
    assert {leg["place"] for leg in plan["legs"] if leg["kind"] == "serve"} == {
        "Esker", "Drumlin",
    }  # fmt: skip
    board = fits("events/{uid}/board", ask("GET", f"{at}/board"))
    page = Client()
    page.force_login(marin.user)
    shown = page.get(reverse("field:board", args=[under_way.pk])).context["board"]
    assert [one["name"] for one in board["stations"]] == [
        one.station.name for one in shown.stations
    ]
    assert board["stations"][0]["charge"]["typical"] == pytest.approx(
        shown.stations[0].battery.soc.typical, abs=0.01
    )
    log = fits("events/{uid}/log", ask("GET", f"{at}/log?most=2"))
    assert len(log) == 2


def test_what_is_known_is_not_sent_again(script, under_way, marin):  # noqa: F811
    """304 until something is noted; the log's ETag moves with an entry."""
    ask, at = script(TokenRole.LOGGER), f"events/{under_way.pk}"
    for path in ("shelf", at, f"{at}/board", f"{at}/log"):
        first = ask("GET", path)
        again = ask("GET", path, **{"If-None-Match": first["ETag"]})
        assert (again.status_code, again.content) == (304, b""), path
        other = ask("GET", path, **{"If-None-Match": '"other"'})
        assert other.status_code == 200

    seen = {path: ask("GET", f"{at}/{path}")["ETag"] for path in ("board", "log")}
    ask("POST", f"{at}/log", {"key": str(uuid4()), "line": "k1 12.9 V"})
    for path, etag in seen.items():
        assert ask("GET", f"{at}/{path}", **{"If-None-Match": etag}).status_code == 200


def test_a_line_is_logged_once_under_the_script_s_name(script, under_way):  # noqa: F811
    """Sent twice it counts once; what is asked about is not noted."""
    ask, at = script(TokenRole.LOGGER), f"events/{under_way.pk}/log"
    before = FieldEntry.objects.count()
    sent = {"key": str(uuid4()), "line": "k1 12.9 V 2.4 A"}

    (heard,) = fits("events/{uid}/log", ask("POST", at, sent))
    assert (heard["saved"], heard["asks"]) == ("saved", "")
    (again,) = ask("POST", at, sent).json()
    assert again["saved"] == "saved before; it counts once"
    entry = FieldEntry.objects.order_by("pk").last()
    assert FieldEntry.objects.count() == before + 1
    assert (str(entry.actor), entry.device) == ("logger script", "script logger script")

    answer = ask("POST", at, {"key": str(uuid4()), "line": "k1 12.9 V 3 of it"})
    assert answer.status_code == 409
    assert fits("events/{uid}/log", answer)[0]["asks"]
    assert FieldEntry.objects.count() == before + 1


def test_a_bench_test_is_kept_and_trusted_by_nobody_yet(script, shelf):
    """The form's own rules: its words name the field and the range."""
    ask = script(TokenRole.COORDINATOR)
    counted = {
        "what": "counter", "shown_ah": 17.5, "hours": 9, "was_full": True,
        "was_emptied": True,
    }  # fmt: skip
    answer = ask("POST", "shelf/K03/tests", counted)
    assert answer.status_code == 201, answer.content
    kept = fits("shelf/{tag}/tests", answer)
    assert kept["result"] == pytest.approx(17.5)
    assert BenchTest.objects.get(pk=kept["uid"]).estimate is None

    far = ask("POST", "shelf/K03/tests", counted | {"shown_ah": 9999})
    (fault,) = fits("shelf/{tag}/tests", far)["detail"]
    assert fault["field"] == "shown_ah"
    assert "between -5000 and 5000 Ah" in fault["words"]
    assert ask("POST", "shelf/K99/tests", counted).status_code == 404
    assert BenchTest.objects.filter(asset=shelf["K03"]).count() == 1


@pytest.mark.parametrize(
    ("role", "may_log", "may_test"),
    [("reader", 403, 403), ("logger", 200, 403), ("coordinator", 200, 201)],
)
def test_a_script_does_what_its_role_allows(
    script, under_way, role, may_log, may_test  # noqa: F811
):  # fmt: skip
    """At every event, also those that come later."""
    ask = script(TokenRole(role))
    line = {"key": str(uuid4()), "line": "note by a script"}
    found = ask("POST", f"events/{under_way.pk}/log", line)
    assert found.status_code == may_log
    sag = {"what": "sag", "amps": 10, "start_v": 13.2, "end_v": 12.9}
    assert ask("POST", "shelf/K01/tests", sag).status_code == may_test
    later = Event.objects.create(
        name="Later", zone="UTC", starts_at=under_way.starts_at + timedelta(days=30),
        ends_at=under_way.ends_at + timedelta(days=30),
    )  # fmt: skip
    assert ask("GET", f"events/{later.pk}").status_code == 200
    assert ask("GET", f"events/{uuid4()}").status_code == 404


@pytest.mark.parametrize(
    ("path", "method", "body", "code"),
    [
        ("events/nothing", "GET", None, 422),
        ("events/{uid}/log?most=0", "GET", None, 422),
        ("events/{uid}/log", "POST", {"line": "k1 12.9 V"}, 422),
        ("events/{uid}/log", "POST", {"key": "x", "line": "k1"}, 422),
        ("events/{uid}/log", "POST", {"key": str(uuid4()), "line": "k" * 5001}, 422),
        ("events/{uid}/log", "POST", {"key": str(uuid4()), "line": " \0 "}, 422),
        ("events/{uid}/log", "POST", {"key": str(uuid4()), "line": "\ud800 2"}, 422),
        ("shelf/K01/tests", "POST", {"what": "sag", "note": "\0\ud800"}, 422),
        ("shelf/%00", "GET", None, 400),
        ("shelf/x?kind=%00", "GET", None, 400),
        ("events/{uid}/log", "POST", ["no object"], 422),
        ("shelf/K01/tests", "POST", {"what": "dance"}, 422),
        ("shelf/K01/tests", "POST", {"what": "sag", "meter": "no"}, 422),
        ("nothing", "GET", None, 404),
    ],
)
def test_bad_input_is_said_and_nothing_is_kept(
    script, under_way, path, method, body, code  # noqa: F811
):  # fmt: skip
    """Never a trace of a fault, always a reason."""
    ask, before = script(TokenRole.COORDINATOR), FieldEntry.objects.count()
    answer = ask(method, path.replace("{uid}", str(under_way.pk)), body)

    assert answer.status_code == code
    if code == 422:
        assert answer.json()["detail"][0]["words"]
    assert FieldEntry.objects.count() == before


def test_no_session_opens_the_door_of_scripts(client_of):
    """Each operation asks for a token, whoever is signed in in that browser."""
    browser = client_of("coordinator")
    for path, methods in described()["paths"].items():
        address = path.replace("{uid}", str(uuid4())).replace("{tag}", "K01")
        for method in methods:
            assert browser.generic(method.upper(), address).status_code == 401, path


def test_a_token_is_shown_once_counted_and_ended(marin, client_of, monkeypatch):
    """A closed door says 401, a noisy script 429; the audit names both ends."""
    client = client_of("coordinator")
    page = reverse("scripts:token_list")
    answer = client.post(page, {"name": "door display", "role": "reader"})
    secret = answer.context["secret"]
    assert secret in answer.content.decode()
    assert secret not in client.get(page).content.decode()
    twice = client.post(page, {"name": "Door Display", "role": "reader"})
    assert "choose another" in twice.content.decode()

    asking = Client(headers={"Authorization": f"Bearer {secret}"})
    assert asking.get("/api/1/events").status_code == 200
    monkeypatch.setattr(services, "MOST_A_MINUTE", 1)
    assert asking.get("/api/1/events").status_code == 429
    token = Token.objects.get()
    assert secret not in token.digest
    client.post(reverse("scripts:token_end", args=[token.pk]))
    assert asking.get("/api/1/events").status_code == 401
    assert Client().get("/api/1/events").status_code == 401
    assert set(Deed.objects.values_list("kind", flat=True)) >= {
        "script", "script_ended",
    }  # fmt: skip
