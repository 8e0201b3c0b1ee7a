"""./kettle: its own cluster, safe settings, copies that lose nothing."""

import os
import subprocess
import sys
import tempfile
from pathlib import Path

import pytest
from django.conf import settings
from django.core.management.base import CommandError
from django.db.migrations.loader import MigrationLoader

from hollow_kettle.command.__main__ import HELP, JOBS
from hollow_kettle.command.web_user import web_runner
from hollow_kettle.database import archive, copies, migrating
from hollow_kettle.database.cluster import Cluster
from hollow_kettle.database.home import (
    EXAMPLES,
    KettleError,
    data_folder,
    installation_secrets,
)
from hollow_kettle.people.management.commands.bring_forward import targets_of

ROOT = Path(__file__).resolve().parents[2]
STEPS = MigrationLoader(None)
FIRST = ("plan", "0001_first_release")


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


@pytest.mark.parametrize(("asked", "silenced"), [("", 2), ("subdomains,preload", 0)])
def test_deployment_checks_are_clean(asked, silenced):
    """`check --deploy`, warnings as failures; HSTS binds other hosts only if asked."""
    environment = SAFE | {"KETTLE_HSTS": asked}
    deploy = ("check", "--deploy", "--fail-level", "WARNING")
    done = run("-m", "django", *deploy, **environment)

    assert done.returncode == 0, done.stderr
    assert f"no issues ({silenced} silenced)" in done.stdout
    assert not getattr(settings, "SILENCED_SYSTEM_CHECKS", [])


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can start it as another user")
def test_root_never_runs_the_web_server():
    """Nor the worker: both run as the user of web servers, in no group of root's."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        folder.chmod(0o755)
        try:
            runner = web_runner(folder, folder)
        except KettleError as refusal:  # this Python is root's own
            pytest.skip(str(refusal))
        code = "import os; print(os.geteuid(), os.getegid(), os.getgroups())"
        child = runner.start(dict(os.environ), "-c", code, stdout=subprocess.PIPE)
        said = child.communicate()[0].decode()
    assert "0" not in said.replace("[", " ").replace("]", " ").split()


@pytest.mark.parametrize(
    ("unsafe", "words"),
    [
        ({"KETTLE_HOSTS": ""}, "needs the host names"),
        ({"KETTLE_HOSTS": "*"}, "needs the host names"),
        ({"KETTLE_SECRET_KEY": "short"}, "secret key of 50"),
        ({"KETTLE_DEMO": "1"}, "never opens the demo"),
        ({"KETTLE_PROXIES": "my-proxy"}, "addresses and networks of your https"),
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
    second = Cluster(data_folder(), name=os.environ["KETTLE_TEST_CLUSTER"])
    second.start()
    yield second
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
    migrating.prepare(cluster, database="kettle_copy", settings="local")
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


@pytest.fixture
def club(cluster, tmp_path, monkeypatch):
    """A club of its own with a name, and its backup."""
    monkeypatch.setattr(cluster, "folder", tmp_path)
    migrating.prepare(cluster, database="kettle_copy", settings="local")
    with cluster.connect_admin("kettle_copy") as connection:
        connection.execute("DELETE FROM people_club")
        connection.execute(
            "INSERT INTO people_club (id, name, zone, clock_offset) "
            "VALUES (1, 'before', 'UTC', '0')"
        )
    return copies.backup(cluster, "kettle_copy", str(tmp_path / "a.kettle"))


def name_of(cluster):
    """The club's name, in a database that may have been replaced."""
    with cluster.connect_admin("kettle_copy") as connection:
        return connection.execute("SELECT name FROM people_club").fetchone()[0]


def dumped(cluster, database, file, *options):
    """A database dumped as somebody else might."""
    environment = {
        "PGPASSWORD": cluster.secrets["admin"], "PGHOST": "127.0.0.1",
        "PGPORT": str(cluster.port), "PGUSER": "kettle_admin",
    }  # fmt: skip
    command = [cluster.program("pg_dump"), "-Fc", *options, "-f", str(file), database]
    subprocess.run(command, env=environment, check=True)
    return file


def test_only_its_owner_may_read_a_backup(club):
    """Every password's digest is in it."""
    assert club.stat().st_mode & 0o077 == 0


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        ("CREATE TABLE evil (x int)", "a table evil, which is not ours"),
        ("UPDATE django_migrations SET name = '9999_x' WHERE app = 'plan'", "is above"),
        ("DELETE FROM django_migrations", "not say of which version"),
        ("CREATE SCHEMA other; CREATE TABLE other.t (x int)", "which is not ours"),
    ],
)
def test_a_tampered_or_foreign_backup_is_refused_by_name(
    club, cluster, tmp_path, spoil, words
):
    """Nothing of it is run, and the club stands as it was."""
    with cluster.connect_admin("kettle_copy") as connection:
        connection.execute("ALTER DATABASE kettle_copy SET client_min_messages = error")
    with cluster.connect_admin() as connection:
        connection.execute("DROP DATABASE IF EXISTS kettle_evil WITH (FORCE)")
        connection.execute("CREATE DATABASE kettle_evil TEMPLATE kettle_copy")
    with cluster.connect_admin("kettle_evil") as connection:
        connection.execute(spoil)
    file = dumped(cluster, "kettle_evil", tmp_path / "evil.kettle", "--data-only")
    with cluster.connect_admin() as connection:
        connection.execute("DROP DATABASE kettle_evil WITH (FORCE)")

    with pytest.raises(KettleError, match="your data is as it was") as refused:
        copies.restore(cluster, "kettle_copy", str(file))
    assert words in str(refused.value)
    assert name_of(cluster) == "before"


@pytest.mark.parametrize(
    ("tables", "words"),
    [
        ({"club": ["id", "name"], "pin": ["id", "extra"]}, "other columns: extra"),
        ({"club": ["id", "name"]}, "It lacks pin"),
        ({"club": ["id"], "pin": ["id"]}, "other columns: name"),
    ],
)
def test_every_table_and_column_must_be_ours(tables, words):
    """No more and no less than our own migrations made."""
    found = archive.Found(tables={k: archive.Table(v) for k, v in tables.items()})

    with pytest.raises(KettleError, match=words):
        archive.compare(found, {"club": {"id", "name"}, "pin": {"id"}})


def test_a_function_hidden_in_an_older_backup_is_refused_and_never_run(
    club, cluster, tmp_path
):
    """A backup with its tables comes back, but not with anything beside them."""
    whole = dumped(cluster, "kettle_copy", tmp_path / "whole.kettle")
    copies.restore(cluster, "kettle_copy", str(whole))
    assert name_of(cluster) == "before"
    with cluster.connect_admin("kettle_copy") as connection:
        connection.execute(
            "CREATE FUNCTION evil() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN "
            "COPY (SELECT 1) TO PROGRAM 'touch /tmp/hollow-kettle-evil'; "
            "RETURN NEW; END $$"
        )
        connection.execute(
            "CREATE TRIGGER evil BEFORE INSERT ON people_club "
            "FOR EACH ROW EXECUTE FUNCTION evil()"
        )
    file = dumped(cluster, "kettle_copy", tmp_path / "evil.kettle")
    with cluster.connect_admin("kettle_copy") as connection:
        connection.execute("DROP FUNCTION evil CASCADE")

    with pytest.raises(KettleError, match="evil"):
        copies.restore(cluster, "kettle_copy", str(file))
    assert not Path("/tmp/hollow-kettle-evil").exists()  # noqa: S108 - must not be
    assert name_of(cluster) == "before"


@pytest.mark.parametrize("content", [b"not a backup", b"", b"PGDMP\x01\x0e"])
def test_a_broken_backup_changes_nothing(club, cluster, tmp_path, content):
    """A file that is no backup, or is cut off, is refused and the data stays."""
    (tmp_path / "bad.kettle").write_bytes(content)
    (tmp_path / "cut.kettle").write_bytes(club.read_bytes()[:9000])

    for name in ("bad.kettle", "cut.kettle"):
        with pytest.raises(KettleError, match="your data is as it was"):
            copies.restore(cluster, "kettle_copy", str(tmp_path / name))
    assert name_of(cluster) == "before"


def test_a_backup_of_an_earlier_version_is_migrated_forward(club, cluster, tmp_path):
    """One made just before the first release, whose steps are one by now."""
    with cluster.connect_admin("kettle_copy") as connection:
        ours = connection.execute(
            "DELETE FROM django_migrations WHERE name = '0001_first_release' "
            "RETURNING app"
        ).fetchall()
        for (app,) in ours:
            connection.cursor().executemany(
                "INSERT INTO django_migrations (app, name, applied) "
                "VALUES (%s, %s, now())",
                STEPS.replacements[app, "0001_first_release"].replaces,
            )
    file = copies.backup(cluster, "kettle_copy", str(tmp_path / "old.kettle"))

    copies.restore(cluster, "kettle_copy", str(file))

    assert name_of(cluster) == "before"
    with cluster.connect_admin("kettle_copy") as connection:
        found = connection.execute(
            "SELECT app FROM django_migrations WHERE name = '0001_first_release'"
        ).fetchall()
    assert set(found) == set(ours)


@pytest.mark.parametrize(
    ("had", "words"),
    [
        ({"plan": STEPS.replacements[FIRST].replaces[:-1]}, "before the first release"),
        ({"plan": [FIRST, ("plan", "9999_to_come")]}, "knows plan.9999_to_come"),
        ({"strange": [("strange", "0001_initial")]}, "knows strange.0001_initial"),
    ],
)
def test_tables_of_a_version_that_nothing_leads_from_are_left_as_they_are(had, words):
    """Older than the first release's last step, newer than this one, or not ours."""
    names = {app: [name for _, name in its] for app, its in had.items()}
    with pytest.raises(CommandError, match=words):
        targets_of(names)
    assert targets_of({"plan": ["0001_first_release"]}) == [FIRST]


def test_the_core_s_command_line_plans_and_verifies_without_a_server(tmp_path):
    """The examples hold a scenario; plan it, verify it, break it."""
    scenario = str(EXAMPLES / "field-day.json")
    planned = run("-m", "powercore", "plan", scenario)
    legs = tmp_path / "legs.json"
    legs.write_text(planned.stdout)

    good = run("-m", "powercore", "verify", scenario, str(legs))
    legs.write_text(planned.stdout.replace('"kind":"serve"', '"kind":"wait"', 1))
    bad = run("-m", "powercore", "verify", scenario, str(legs))

    assert (good.returncode, good.stdout.startswith("valid;")) == (0, True)
    assert (bad.returncode, "too_many_spares" in bad.stdout) == (1, True)
    assert run("-m", "powercore", "verify", scenario, "/no/such").returncode == 2
