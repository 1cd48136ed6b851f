"""What no one foresaw: one sentence with the place of a log that holds the rest, in the window and on the command line."""

from __future__ import annotations

import logging
import logging.handlers
from pathlib import Path

import platformdirs

from wolbrin.core.errors import EnvironmentTrouble, UserError, WolbrinError

log = logging.getLogger("wolbrin")


def log_path() -> Path:
    """Where the log is."""
    return Path(platformdirs.user_log_path("wolbrin")) / "wolbrin.log"


def begin_log() -> bool:
    """Log to a file that rotates; without a writable folder, to nowhere. Returns whether there is one."""
    path = log_path()
    for known in [h for h in log.handlers if isinstance(h, logging.handlers.RotatingFileHandler)]:
        if Path(known.baseFilename) == path.absolute():
            return True
        log.removeHandler(known)  # its folder is another by now
        known.close()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handler: logging.Handler = logging.handlers.RotatingFileHandler(path, maxBytes=500_000, backupCount=2,
                                                                        encoding="utf-8", errors="replace")
    except OSError:
        handler = logging.NullHandler()
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s %(message)s"))
    log.addHandler(handler)
    log.setLevel(logging.INFO)
    return not isinstance(handler, logging.NullHandler)


def sentence_of(err: BaseException, what: str = "Something went wrong that nobody foresaw") -> str:
    """What is said of an error: its own sentence where it was foreseen; else it is logged, and the log is named."""
    if isinstance(err, WolbrinError):
        return err.sentence()
    if isinstance(err, OSError) and err.strerror:  # the machine's, wherever it comes up
        return EnvironmentTrouble(f"this cannot be read or written ({err.strerror})", str(err.filename or "")[:400],
                                  "Check the path, the permissions and the free space.").sentence()
    if isinstance(err, UnicodeEncodeError) or "surrogates not allowed" in str(err):
        return UserError("what was given holds characters that are no text", "", "Write it in UTF-8.").sentence()
    kept = begin_log()
    log.error("%s", what, exc_info=err)
    text = " ".join(str(err).split())[:200]
    named = f"{type(err).__name__}: {text}" if text else type(err).__name__
    where = f"Details are in {log_path()}." if kept else "There is no folder for a log."
    return f"{what} ({named}). What was saved is unharmed. {where}"
