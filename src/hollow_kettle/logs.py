"""
What is logged and how: lines for people, or JSON for whoever collects logs.

No line holds a secret or a person's name: addresses of pages (a pass or a label may
stand in them), queries and bodies are left out, and of an exception only its kind and
where it happened.
"""

from __future__ import annotations

import logging
import os
import traceback
from contextvars import ContextVar
from types import TracebackType
from typing import Any

from pythonjsonlogger.json import JsonFormatter

#: The number of the request that is being answered, to find its lines by.
request_number: ContextVar[str] = ContextVar("request_number", default="")

#: What a line in JSON may hold besides time, level, logger and message.
FIELDS = ("request", "route", "method", "status", "ms", "job", "task", "error")

ExcInfo = tuple[type[BaseException], BaseException, TracebackType | None]


class Guard(logging.Filter):
    """Gives each line its numbers, and takes out what may be secret or a name."""

    def filter(self, record: logging.LogRecord) -> bool:
        """Change the record in place; all lines pass."""
        record.__dict__["request"] = request_number.get() or None
        job = getattr(record, "job", None)
        if isinstance(job, dict):  # as the queue logs it, with the job's arguments
            key, task = job.get("id"), job.get("task_name")
            record.__dict__ |= {"job": key, "task": task}
            record.msg, record.args = (
                f"job {task}[{key}]: {_how(record)}",
                (),
            )
        if record.name.startswith(
            ("django.request", "django.security", "django.server")
        ):
            record.msg, record.args = _without_address(record), ()
        return True


def _how(record: logging.LogRecord) -> str:
    return str(getattr(record, "action", "")).replace("_", " ")


def _without_address(record: logging.LogRecord) -> str:
    if record.name.startswith("django.security."):
        return record.name.removeprefix("django.security.")
    words = record.msg if isinstance(record.msg, str) else ""
    first = record.args[0] if isinstance(record.args, tuple) and record.args else words
    return str(first).split(":")[0]


def what_happened(info: ExcInfo) -> dict[str, Any]:
    """Return an exception's kind and our own places on its way, innermost last."""
    kind, _, way = info
    frames = traceback.extract_tb(way)
    at = [f"{short(frame.filename)}:{frame.lineno} {frame.name}" for frame in frames]
    return {"kind": kind.__name__, "at": at[-12:]}


def short(path: str) -> str:
    """Return a file's path from its package on."""
    for start in ("/src/", "/site-packages/", "/python3.11/"):
        if start in path:
            return path.rsplit(start, 1)[1]
    return path


class Json(JsonFormatter):
    """One object a line, of the fields that are allowed."""

    def add_fields(
        self,
        log_record: dict[str, Any],
        record: logging.LogRecord,
        message_dict: dict[str, Any],
    ) -> None:
        """Fill in a line."""
        log_record["time"] = f"{self.formatTime(record, '%Y-%m-%dT%H:%M:%S')}Z"
        log_record["level"] = record.levelname.lower()
        log_record["logger"] = record.name
        log_record["message"] = record.getMessage()
        for name in FIELDS:
            if (value := getattr(record, name, None)) is not None:
                log_record[name] = value
        if record.exc_info and record.exc_info[0] is not None:
            log_record["error"] = what_happened(record.exc_info)


class Words(logging.Formatter):
    """A line for people, and beneath it where an exception happened."""

    def formatException(self, ei: Any) -> str:  # noqa: N802 - logging's own name
        """Say its kind and places, not what it held."""
        found = what_happened(ei)
        return "\n".join([f"  {found['kind']}", *(f"    {at}" for at in found["at"])])


def config() -> dict[str, Any]:
    """Return the configuration of logging for every process of ours."""
    is_json = os.environ.get("KETTLE_LOG", "words") == "json"
    formatters = {
        "words": {
            "()": Words,
            "format": "%(asctime)s %(levelname)s %(name)s: %(message)s",
        },
        "json": {"()": Json},
    }
    return {
        "version": 1,
        "disable_existing_loggers": False,
        "filters": {"guard": {"()": Guard}},
        "formatters": formatters,
        "handlers": {
            "console": {
                "class": "logging.StreamHandler",
                "formatter": "json" if is_json else "words",
                "filters": ["guard"],
            }
        },
        "root": {"handlers": ["console"], "level": "WARNING"},
        "loggers": {
            "axes": {"level": "ERROR"},
            "hollow_kettle": {"level": "INFO" if is_json else "WARNING"},
            "procrastinate.worker": {"level": "INFO" if is_json else "WARNING"},
        },
    }
