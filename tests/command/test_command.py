"""./kettle: its own cluster, safe settings, copies that lose nothing."""

import os
import subprocess
import sys
from pathlib import Path

import pytest
from django.conf import settings

from hollow_kettle.command import copies, serving
from hollow_kettle.command.__main__ import HELP, JOBS
from hollow_kettle.command.cluster import Cluster
from hollow_kettle.command.home import KettleError, data_folder, installation_secrets

ROOT = Path(__file__).resolve().parents[2]


def run(*arguments, **environment):
    """Run a Python module of the application."""
    return subprocess.run(
        [sys.executable, *arguments], capture_output=True, text=True, check=False,
        cwd=ROOT, env={**os.environ, "PYTHONPATH": "src", **environment},
    )  # fmt: skip


SAFE = {
    "DJANGO_SETTINGS_MODULE": "hollow_kettle.settings.serve",
    "KETTLE_HOSTS": "kettle.example.org",
    "KETTLE_SECRET_KEY": "tannin-9-spruce-7-copper-5-enamel-3-" * 2,
}


def test_deployment_checks_are_clean_with_nothing_silenced():
    """`check --deploy` under the settings of serve, warnings as failures."""
    done = run("-m", "django", "check", "--deploy", "--fail-level", "WARNING", **SAFE)

    assert (done.returncode, "no issues" in done.stdout) == (0, True), done.stderr
    assert not getattr(settings, "SILENCED_SYSTEM_CHECKS", [])


@pytest.mark.parametrize(
    ("unsafe", "words"),
    [
        ({"KETTLE_HOSTS": ""}, "needs the host names"),
        ({"KETTLE_HOSTS": "*"}, "needs the host names"),
        ({"KETTLE_SECRET_KEY": "short"}, "secret key of 50"),
        ({"KETTLE_DEMO": "1"}, "never opens the demo"),
    ],
)
def test_serving_refuses_unsafe_settings(unsafe, words):
    """Each with the sentence that says what to do."""
    done = run("-m", "django", "check", **(SAFE | unsafe))

    assert done.returncode != 0
    assert words in done.stderr


def test_no_migration_is_missing(db):
    """Models and migrations agree."""
    done = run("-m", "django", "makemigrations", "--check", "--dry-run",
               DJANGO_SETTINGS_MODULE="hollow_kettle.settings.test")  # fmt: skip

    assert done.returncode == 0, done.stdout


def test_help_names_every_job_and_an_unknown_one_is_said():
    """What is not there is answered with what is."""
    for job in set(JOBS) - {"help"}:
        assert f"./kettle {job}" in HELP
    done = run("-m", "hollow_kettle.command", "serve", KETTLE_HOSTS="")
    assert done.stderr.startswith("kettle: serve needs the names")
    done = run("-m", "hollow_kettle.command", "dance")
    assert (done.returncode, "there is no 'dance'" in done.stderr) == (2, True)


def test_secrets_are_made_once_and_kept_to_the_owner(tmp_path):
    """Passwords and key of an installation."""
    made = installation_secrets(tmp_path)

    assert installation_secrets(tmp_path) == made
    assert (tmp_path / "secrets.json").stat().st_mode & 0o077 == 0
    assert len(made["secret_key"]) >= 50


@pytest.fixture(scope="module")
def cluster():
    """The cluster the tests run on; a second user of it does not stop it."""
    second = Cluster(data_folder(), name="test-cluster")
    second.start()
    yield second
    with second.connect_admin() as connection:
        for name in ("kettle_copy", copies.SCRATCH):
            connection.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
    second.stop()
    second.connect_admin().close()  # it still runs for its first user


def test_the_cluster_is_local_asks_for_passwords_and_is_not_run_by_root(cluster):
    """Loopback only, scram, and an unprivileged server."""
    with cluster.connect_admin() as connection:
        show = {
            name: connection.execute(f"SHOW {name}").fetchone()[0]
            for name in ("listen_addresses", "password_encryption", "data_directory")
        }
    rules = (Path(show["data_directory"]) / "pg_hba.conf").read_text()
    methods = {
        line.split()[-1] for line in rules.splitlines() if line and line[0] != "#"
    }

    assert show["listen_addresses"] == "127.0.0.1"
    assert methods == {"scram-sha-256"}
    assert Path(show["data_directory"]).stat().st_uid != 0


def test_a_backup_comes_back_and_what_was_there_is_kept(cluster, tmp_path, monkeypatch):
    """Back up, change, restore: the change is gone from the club, not lost."""
    monkeypatch.setattr(cluster, "folder", tmp_path)
    serving.prepare(cluster, database="kettle_copy", settings="local")
    query = "SELECT name FROM people_club"
    with cluster.connect_admin("kettle_copy") as connection:
        connection.execute(
            "INSERT INTO people_club (id, name, zone, clock_offset) "
            "VALUES (1, 'before', 'UTC', '0')"
        )
    file = copies.backup(cluster, "kettle_copy", str(tmp_path / "a.kettle"))
    with cluster.connect_admin("kettle_copy") as connection:
        connection.execute("UPDATE people_club SET name = 'after'")

    copies.restore(cluster, "kettle_copy", str(file))

    with cluster.connect_admin("kettle_copy") as connection:
        assert connection.execute(query).fetchone() == ("before",)
    (kept,) = tmp_path.glob("before-restore-*.kettle")
    copies.restore(cluster, "kettle_copy", str(kept))
    with cluster.connect_admin("kettle_copy") as connection:
        assert connection.execute(query).fetchone() == ("after",)


def test_a_broken_backup_changes_nothing(cluster, tmp_path, monkeypatch):
    """A file that is no backup is refused and the data stays."""
    monkeypatch.setattr(cluster, "folder", tmp_path)
    serving.prepare(cluster, database="kettle_copy", settings="local")
    (tmp_path / "bad.kettle").write_text("not a backup")

    with pytest.raises(KettleError, match="your data is as it was"):
        copies.restore(cluster, "kettle_copy", str(tmp_path / "bad.kettle"))
    with cluster.connect_admin("kettle_copy") as connection:
        assert connection.execute("SELECT count(*) FROM people_club").fetchone()


def test_the_core_s_command_line_plans_and_verifies_without_a_server(tmp_path):
    """examples/ holds a scenario; plan it, verify it, break it."""
    scenario = str(ROOT / "examples" / "field-day.json")
    planned = run("-m", "powercore", "plan", scenario)
    legs = tmp_path / "legs.json"
    legs.write_text(planned.stdout)

    good = run("-m", "powercore", "verify", scenario, str(legs))
    legs.write_text(planned.stdout.replace('"kind":"serve"', '"kind":"wait"', 1))
    bad = run("-m", "powercore", "verify", scenario, str(legs))

    assert (good.returncode, good.stdout.startswith("valid;")) == (0, True)
    assert (bad.returncode, "too_many_spares" in bad.stdout) == (1, True)
    assert run("-m", "powercore", "verify", scenario, "/no/such").returncode == 2
