"""
Build the wheel of a commit, install it into an empty venv, and start its demo club.

    python scripts/try_wheel.py [FOLDER]

The wheel stays in FOLDER (by default a temporary one). Nothing of the source tree is
reachable for what is installed: it runs from / with a data folder of its own.
"""

import os
import re
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
#: Data that the installed program reads: a page, styles, the demo's lists, an example.
PAGES = ("/healthz", "/readyz", "/sign-in/", "/static/ui/built/kettle.css")
START_S = 300


def build(folder: Path) -> Path:
    """Make a wheel of what is committed; returns its file."""
    source = folder / "source"
    source.mkdir()
    packed = subprocess.run(
        ["git", "archive", "HEAD"], cwd=ROOT, stdout=subprocess.PIPE, check=True
    )
    subprocess.run(["tar", "x", "-C", str(source)], input=packed.stdout, check=True)
    pip = [sys.executable, "-m", "pip", "wheel", "-q", "--no-deps"]
    subprocess.run([*pip, "-w", str(folder), str(source)], check=True)
    (wheel,) = folder.glob("hollow_kettle-*.whl")
    return wheel


def install(wheel: Path, folder: Path) -> Path:
    """Install it with the locked versions of what it needs; returns its command."""
    locked = (ROOT / "requirements" / "run.txt").read_text()
    pins = re.findall(r"^[^\s#-]\S*==\S+", locked, flags=re.MULTILINE)
    (folder / "pins.txt").write_text("\n".join(pins))
    venv = folder / "venv"
    subprocess.run([sys.executable, "-m", "venv", str(venv)], check=True)
    pip = [str(venv / "bin" / "pip"), "install", "-q", "-c", str(folder / "pins.txt")]
    subprocess.run([*pip, str(wheel)], check=True)
    return venv / "bin" / "kettle"


def start(kettle: Path, folder: Path) -> None:
    """Start the demo club, ask for pages, and stop it."""
    data = folder / "data"
    environment = {
        "PATH": os.environ["PATH"], "KETTLE_DATA": str(data), "HOME": str(folder),
    }  # fmt: skip
    with subprocess.Popen(
        [str(kettle), "demo"], cwd="/", env=environment, text=True,
        stdout=subprocess.PIPE,
    ) as child:  # fmt: skip
        assert child.stdout is not None
        try:
            address = ""
            until = time.monotonic() + START_S
            while not address and time.monotonic() < until:
                line = child.stdout.readline()
                if not line:
                    sys.exit("It ended before it said its address.")
                found = re.search(r"http://\S+", line)
                address = found.group(0).rstrip("/") if found else ""
            for page in PAGES:
                with urllib.request.urlopen(address + page, timeout=60) as answer:
                    print(page, answer.status, len(answer.read()), "bytes")
        finally:
            child.terminate()


def main() -> None:
    """Build, install, start."""
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(sys.argv[1] if sys.argv[1:] else temporary).resolve()
        folder.mkdir(parents=True, exist_ok=True)
        folder.chmod(0o755)
        wheel = build(folder)
        kettle = install(wheel, folder)
        print(wheel.name, wheel.stat().st_size // 1000, "kB")
        start(kettle, folder)


if __name__ == "__main__":
    main()
