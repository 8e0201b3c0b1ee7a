"""Write down what scripts of a club may ask, as the code says it."""

import json
import os
from pathlib import Path

FILE = Path(__file__).resolve().parents[1] / "docs" / "formats" / "api-1.json"


def main() -> None:
    """Write docs/formats/api-1.json."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "hollow_kettle.settings.test")
    os.environ.setdefault("KETTLE_SECRET_KEY", "only to make a description")
    import django

    django.setup()
    from hollow_kettle.api.routes import api

    schema = api.get_openapi_schema(path_prefix="/api/1/")
    FILE.write_text(json.dumps(schema, indent=1, sort_keys=True) + "\n")


if __name__ == "__main__":
    main()
