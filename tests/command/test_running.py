"""What dies is started again, one command serves a club, and nothing outlives it."""

import calendar
import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psycopg
import pytest

from hollow_kettle.command import keeper
from hollow_kettle.command.holder import Taken, only_one
from hollow_kettle.command.keeper import Keeper, Part
from hollow_kettle.database import ports
from hollow_kettle.database.cluster import Cluster, throwaway
from hollow_kettle.database.home import KettleError, data_folder

ROOT = Path(__file__).resolve().parents[2]
SETTINGS = "hollow_kettle.settings.test"


class Below:
    """A database server that can be ended, and be refused a start."""

    def __init__(self):
        self.is_alive, self.starts, self.refusals = True, 0, 0

    def start_again(self):
        self.starts += 1
        if self.refusals:
            self.refusals -= 1
            raise KettleError("no room")
        self.is_alive = True


def sleeper():
    """A part with a child of its own, in a session of its own."""
    code = "import subprocess, time; subprocess.Popen(['sleep', '60']); time.sleep(60)"
    return subprocess.Popen([sys.executable, "-c", code], start_new_session=True)


def until(condition, words):
    """Wait for something that takes the system a moment."""
    for _ in range(200):
        if condition():
            return
        time.sleep(0.05)
    pytest.fail(words)


def test_what_web_processes_are_forked_from_holds_no_thread_and_no_connection():
    """Neither would be whole in a child; pages are loaded before it."""
    code = (
        "import sys, threading, hollow_kettle.wsgi\n"
        "from django.db import connection\n"
        "print(threading.active_count(), connection.connection, "
        "'hollow_kettle.field.views' in sys.modules)"
    )
    environment = {"PYTHONPATH": "src", "DJANGO_SETTINGS_MODULE": SETTINGS}
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True,
        cwd=ROOT, env={**os.environ, **environment},
    )  # fmt: skip

    assert done.stdout.split() == ["1", "None", "True"]


@pytest.fixture
def clock(monkeypatch):
    """Monotonic time that the test moves on."""
    now = [1000.0]
    monkeypatch.setattr(keeper.time, "monotonic", lambda: now[0])
    return now


class Ended:
    """A process that can be ended, and has no group left to signal."""

    pid, code = 2**22, None

    def poll(self):
        return self.code


def test_a_part_that_dies_is_started_at_once_then_later_and_later(clock, caplog):
    """And one that was well for a minute counts anew."""
    part = Part("the worker", Ended)
    kept = Keeper(Below(), [part])
    kept.look_after()
    waits = []
    for _ in range(9):
        part.child.code, began = 1, clock[0]
        kept.look_after()
        while part.child is None:
            clock[0] += 0.5
            kept.look_after()
        waits.append(clock[0] - began)
    assert waits == [0, 1, 2, 5, 10, 30, 60, 60, 60]
    assert "the worker ended (exit 1); starting it again in 60 s" in caplog.text

    clock[0] += keeper.WELL_S + 1
    part.child.code = 1
    kept.look_after()
    assert (part.child.code, part.back_off.failures) == (None, 1)


def test_a_killed_part_takes_its_children_along_and_all_end_together(caplog):
    """As a search in the background does with its worker."""
    part = Part("the worker", sleeper)
    kept = Keeper(Below(), [part])
    kept.look_after()
    first = part.child
    until(lambda: len(group(first.pid)) == 2, "its child did not start")
    first.kill()
    first.wait()
    kept.look_after()

    assert part.child.pid != first.pid
    assert "ended (signal 9)" in caplog.text
    until(lambda: not group(first.pid), "a child outlived its part")
    second = part.child
    kept.stop()
    until(lambda: not group(second.pid), "something outlived the command")


def group(leader):
    """What lives of a process group, zombies aside."""
    listed = subprocess.run(
        ["ps", "-eo", "pgid=,stat="], capture_output=True, text=True, check=True
    ).stdout.split("\n")
    rows = [line.split() for line in listed if line.strip()]
    return [stat for pgid, stat in rows if int(pgid) == leader and stat[0] != "Z"]


def test_the_database_comes_first_and_is_tried_until_it_runs(clock, caplog):
    """No part is started on a database that is not there."""
    below = Below()
    kept = Keeper(below, [part := Part("the worker", sleeper)])
    below.is_alive, below.refusals = False, 3
    for _ in range(20):
        kept.look_after()
        clock[0] += 0.5

    assert (below.is_alive, below.starts) == (True, 4)
    assert caplog.text.count("can't be started: no room") == 3
    assert part.child is not None
    kept.stop()


def test_one_command_serves_a_club_and_the_next_is_told_where(tmp_path):
    """The lock ends with its holder, also when that is killed."""
    code = (
        "import pathlib, sys, time\n"
        "from hollow_kettle.command.holder import only_one\n"
        "with only_one(pathlib.Path(sys.argv[1]), 'kettle_club', 'run') as holder:\n"
        "    print('starting', flush=True); sys.stdin.readline()\n"
        "    holder.say('http://127.0.0.1:8311/'); print('up', flush=True)\n"
        "    time.sleep(60)\n"
    )
    first = subprocess.Popen(
        [sys.executable, "-c", code, str(tmp_path)], text=True,
        stdin=subprocess.PIPE, stdout=subprocess.PIPE,
        env={**os.environ, "PYTHONPATH": str(ROOT / "src")},
    )  # fmt: skip
    with first:
        assert first.stdout.readline() == "starting\n"
        with pytest.raises(Taken, match="just being started by"):
            only_one(tmp_path, "kettle_club", "serve").__enter__()
        with only_one(tmp_path, "kettle_demo", "demo"):
            pass  # another club of the same folder
        print("go", file=first.stdin, flush=True)
        assert first.stdout.readline() == "up\n"
        with pytest.raises(Taken) as found:
            only_one(tmp_path, "kettle_club", "serve").__enter__()
        assert str(found.value) == (
            "It runs already at  http://127.0.0.1:8311/  "
            f"(started by ./kettle run, process {first.pid})."
        )
        first.kill()
    with only_one(tmp_path, "kettle_club", "run"):
        pass


def test_ports_are_found_by_binding_and_none_that_systems_hand_out():
    """What is listened on is ours; a port that others hold is passed over or named."""
    lowest = int(Path("/proc/sys/net/ipv4/ip_local_port_range").read_text().split()[0])
    for few in (ports.DATABASE_PORTS, ports.CLUB_PORTS, ports.DEMO_PORTS):
        assert 1024 < few[0] <= few[-1] < lowest
    with socket.socket() as other:
        other.bind(("127.0.0.1", 0))
        other.listen()
        taken = other.getsockname()[1]
        with ports.listen("127.0.0.1", range(taken, taken + 20)) as own:
            assert own.getsockname()[1] > taken
        with pytest.raises(KettleError, match=f"Port {taken} of 127.0.0.1 is taken by"):
            ports.listen("127.0.0.1", range(taken, taken + 1))
    with pytest.raises(KettleError, match=r"192\.0\.2\.7 port 8300 can't be listened"):
        ports.listen("192.0.2.7", range(8300, 8400))


def test_a_cluster_ends_with_its_last_user_however_that_ends():
    """Killed, it leaves no server behind; one that died runs again where it was."""
    with throwaway(data_folder(), "crash", is_durable=True) as cluster:
        port, main = cluster.port, pid_of(cluster)
        os.kill(main, signal.SIGKILL)
        until(lambda: not cluster.is_alive, "it survived")
        for _ in range(20):  # its children take a moment to notice
            try:
                cluster.start_again()
                break
            except KettleError:
                time.sleep(0.2)
        assert (cluster.is_alive, cluster.port) == (True, port)
        assert_log_is_of_a_week_without_values(cluster)

    code = """
import os, signal
from hollow_kettle.database.cluster import throwaway
from hollow_kettle.database.home import data_folder
with throwaway(data_folder(), "killed") as cluster:
    print(cluster.home.name, flush=True)
    os.kill(os.getpid(), signal.SIGKILL)
"""
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=False,
        env={**os.environ, "PYTHONPATH": str(ROOT / "src")},
    )  # fmt: skip
    left = Cluster(data_folder(), name=done.stdout.strip())
    until(lambda: not left.is_alive, "its server outlived the command")
    with throwaway(data_folder(), "next") as following:
        assert not left.home.exists()
        with following.connect_admin() as connection:
            assert connection.execute("SHOW fsync").fetchone() == ("off",)
        assert (data_folder() / os.environ["KETTLE_TEST_CLUSTER"]).exists()
    assert not following.home.exists()


def test_a_data_folder_may_have_a_long_name_with_spaces():
    """A shell reads what the server is started with, and a socket's path is short."""
    with tempfile.TemporaryDirectory(prefix="the club at the lake " * 6) as name:
        folder = Path(name)
        folder.chmod(0o755)
        with throwaway(folder, "odd", is_durable=True) as cluster:
            cluster.connect_admin().close()


def assert_log_is_of_a_week_without_values(cluster):
    """A refused statement is told of, not what it held."""
    with cluster.connect_admin() as connection:
        connection.execute("CREATE TABLE met (name text PRIMARY KEY)")
        connection.execute("INSERT INTO met VALUES ('Wren')")
        with pytest.raises(psycopg.errors.UniqueViolation):
            connection.execute("INSERT INTO met VALUES ('Wren')")
    folder = cluster.home / "log"

    def logged():
        return "".join(path.read_text() for path in folder.iterdir())

    until(lambda: "duplicate key" in logged(), "it logged nothing")
    assert "Wren" not in logged()
    week = {f"server-{day}.log" for day in calendar.day_abbr}
    assert {path.name for path in folder.iterdir()} <= week


def pid_of(cluster):
    """The main process of a cluster."""
    return int((cluster.data / "postmaster.pid").read_text().split()[0])
