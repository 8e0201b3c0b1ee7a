"""The web application as gunicorn loads it."""

from django.core.wsgi import get_wsgi_application

application = get_wsgi_application()
