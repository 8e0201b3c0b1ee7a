"""The browser driver keeps an event loop in the main thread; Django must allow it."""

import os

import pytest


@pytest.fixture(autouse=True, scope="module")
def _event_loop_in_the_main_thread():
    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
    yield
    del os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"]
