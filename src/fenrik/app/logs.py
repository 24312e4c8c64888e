"""What the server and its workers say: one line an event, as JSON where no person looks on."""

from __future__ import annotations

import logging
import os
import sys

import structlog


def set_up_logs(level: int = logging.INFO) -> None:
    """Let all that is logged in this process go to standard error, with the request or task that it belongs to.

    As JSON, or for people where standard error is a terminal (`FENRIK_LOG` = `json` or `plain` says otherwise).
    """
    wanted = os.environ.get("FENRIK_LOG") or ("plain" if sys.stderr.isatty() else "json")
    before: list[structlog.typing.Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.stdlib.add_log_level,
        structlog.stdlib.add_logger_name,
        structlog.stdlib.ExtraAdder(["task", "attempt"]),
        structlog.processors.TimeStamper("iso", utc=True),
        structlog.processors.format_exc_info,
    ]
    last = structlog.processors.JSONRenderer() if wanted == "json" else structlog.dev.ConsoleRenderer()
    structlog.configure(
        processors=[*before, structlog.stdlib.ProcessorFormatter.wrap_for_formatter],
        logger_factory=structlog.stdlib.LoggerFactory(),
        wrapper_class=structlog.stdlib.BoundLogger,
        cache_logger_on_first_use=True,
    )
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(
        structlog.stdlib.ProcessorFormatter(
            foreign_pre_chain=before, processors=[structlog.stdlib.ProcessorFormatter.remove_processors_meta, last]
        )
    )
    root = logging.getLogger()
    root.handlers = [handler]
    root.setLevel(logging.WARNING)
    logging.getLogger("fenrik").setLevel(level)
