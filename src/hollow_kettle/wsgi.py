"""The web application as gunicorn loads it, once for all its processes."""

from importlib import import_module

from django.core.wsgi import get_wsgi_application

application = get_wsgi_application()

# Pages, and the sun's library: not while somebody waits for the first of them.
for name in ("hollow_kettle.urls", "powercore.event.sky"):
    import_module(name)
