"""Debian's Chromium, headless, for everything here that opens pages."""

import shutil

from playwright.sync_api import Browser, BrowserType


def launch(chromium: BrowserType, *more: str) -> Browser:
    """Start it; `more` are options of its command line."""
    quiet = ("--no-sandbox", "--disable-gpu", "--disable-background-networking")
    path = shutil.which("chromium")
    return chromium.launch(executable_path=path, args=[*quiet, *more])
