"""The web application as gunicorn loads it."""

from importlib import import_module
from threading import Thread

from django.core.wsgi import get_wsgi_application

application = get_wsgi_application()

# The sun's library takes a second or two to load: not while somebody waits for a page.
Thread(target=import_module, args=("powercore.event.sky",), daemon=True).start()
