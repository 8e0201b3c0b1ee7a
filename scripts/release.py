"""
Make a release of what is committed, and try it.

    .venv/bin/python scripts/release.py FOLDER

In FOLDER are then the wheel, lists of all that is in it in the CycloneDX form (Python
and browser), and everything's licences. The wheel was installed into an empty venv and
its demo club started; it ran from / with data of its own, out of reach of the source.
"""

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
#: What only answers when templates, styles and the demo's lists came along.
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
        assert child.stdout is not None  # noqa: S101 - it is piped
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
                asked = urllib.request.urlopen(address + page, timeout=60)  # noqa: S310
                with asked as answer:
                    html = answer.read()
                print(page, answer.status, len(html), "bytes")
                if b"./kettle" in html:
                    sys.exit(f"{page} tells of a command that is not installed so.")
        finally:
            child.terminate()
            child.stdout.read()


def list_parts(venv: Path, work: Path, to: Path) -> None:
    """Write what is in it and under which licences; the tools have their own venv."""
    tools = work / "tools"
    subprocess.run([sys.executable, "-m", "venv", str(tools)], check=True)
    wanted = ["--require-hashes", "-r", str(ROOT / "requirements" / "release.txt")]
    pip = [str(tools / "bin" / "pip"), "install", "-q"]
    subprocess.run([*pip, *wanted], check=True)
    python = str(venv / "bin" / "python")
    sbom = [str(tools / "bin" / "cyclonedx-py"), "environment", python]
    output = ["-o", str(to / "python.cdx.json"), "--output-reproducible"]
    subprocess.run([*sbom, *output], check=True)
    licences = [str(tools / "bin" / "pip-licenses"), "--python", python]
    form = ["--format", "markdown", "--output-file", str(to / "licences.md")]
    subprocess.run([*licences, *form], check=True, stdout=subprocess.DEVNULL)
    listed = subprocess.run(
        ["npm", "sbom", "--package-lock-only", "--sbom-format=cyclonedx"],
        cwd=ROOT, stdout=subprocess.PIPE, check=True,
    )  # fmt: skip
    (to / "browser.cdx.json").write_bytes(listed.stdout)


def main() -> None:
    """Build, install, start, list."""
    if len(sys.argv) != 2:
        sys.exit("Say where to: scripts/release.py FOLDER")
    to = Path(sys.argv[1]).resolve()
    to.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as temporary:
        work = Path(temporary)
        work.chmod(0o755)  # the web server's user reads what is installed
        wheel = build(work)
        kettle = install(wheel, work)
        start(kettle, work)
        list_parts(kettle.parents[1], work, to)
        shutil.copy(wheel, to)
    for file in sorted(to.iterdir()):
        print(f"{file.name}: {file.stat().st_size // 1000} kB")


if __name__ == "__main__":
    main()
