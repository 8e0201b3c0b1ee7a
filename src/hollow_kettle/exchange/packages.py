"""Tables together, in the open Data Package form."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Iterable
from typing import Any


def as_package(
    name: str, title: str, tables: Iterable[tuple[str, dict[str, Any]]]
) -> bytes:
    """
    Return tables as a zip of CSVs with a `datapackage.json` that describes them.

    `tables` are each a CSV and its resource, whose `path` is the file's name.
    """
    out = io.BytesIO()
    resources = []
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as package:
        for content, resource in tables:
            package.writestr(resource["path"], content)
            resources.append(resource)
        descriptor = {
            "name": name,
            "title": title,
            "profile": "tabular-data-package",
            "resources": resources,
        }
        package.writestr(
            "datapackage.json", json.dumps(descriptor, indent=2, ensure_ascii=False)
        )
    return out.getvalue()
