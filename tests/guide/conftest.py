"""Pages are opened here as in the tests of rooms."""

from tests.browser.conftest import _event_loop_in_the_main_thread  # noqa: F401
