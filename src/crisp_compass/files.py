"""Reading and writing files with care: only regular ones of bearable size are read, and nothing is half written.

A path may come from a file that somebody else made, so devices, pipes and sockets are never opened for reading, and a file
is measured before it is read.
"""

from __future__ import annotations

import hashlib
import io
import os
import platform
import re
import stat
import tempfile
from pathlib import Path

from crisp_compass.errors import Refusal

#: Largest text file of ours (bench, profile, autosave) and largest capture that is read, bytes.
MOST_TEXT = 32 << 20
MOST_CAPTURE = 1 << 30
_ELSEWHERE = "choose another folder or name"
_PART = ".part"


def open_regular(path: Path, most: int = MOST_CAPTURE) -> io.BufferedReader:
    """Open a regular file for reading bytes; raises Refusal for anything else and for more than ``most`` bytes."""
    try:
        # without O_NONBLOCK a pipe would hang here until somebody writes
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except FileNotFoundError:
        raise Refusal("there is no such file", "check the path", where=str(path)) from None
    except (OSError, ValueError) as error:
        why = error.strerror if isinstance(error, OSError) else "the name is not possible"
        raise Refusal(f"the file cannot be read ({why})", where=shortened(str(path))) from None
    found = os.fstat(handle)
    problem = ""
    if not stat.S_ISREG(found.st_mode):
        problem = "this is not a file of data" if not stat.S_ISDIR(found.st_mode) else "this is a folder, not a file"
    elif found.st_size > most:
        problem = f"the file has {found.st_size / 1e6:.0f} MB, more than the {most / 1e6:.0f} MB that are read"
    if problem:
        os.close(handle)
        raise Refusal(problem, "check the path", where=str(path))
    return os.fdopen(handle, "rb")


#: What files begin with that people take for a capture or a bench, and what they are.
_FOREIGN = (
    (b"%PDF-", "a PDF document"), (b"\x89PNG", "a picture"), (b"\xff\xd8\xff", "a picture"), (b"GIF8", "a picture"), (b"BM", "a picture"),
    (b"PK\x03\x04", "a spreadsheet or an archive"), (b"\xd0\xcf\x11\xe0", "a spreadsheet of an older kind"), (b"\x1f\x8b", "a compressed file"),
    (b"Rar!", "an archive"), (b"7z\xbc\xaf", "an archive"), (b"\x7fELF", "a program"), (b"<!DOCTYPE", "a web page"), (b"<html", "a web page"), (b"<?xml", "an XML document"),
)  # fmt: skip


def foreign(head: bytes) -> str:
    """Return what a file is that begins so, as a sentence names it; empty where it may be text of ours."""
    start = head.removeprefix(b"\xef\xbb\xbf").lstrip(b" \t\r\n")
    for mark, name in _FOREIGN:
        if start[: len(mark)].lower() == mark.lower() and (len(mark) > 2 or b"\x00" in head[:64]):
            return name
    if re.match(rb"\{|\[\s*[\[{\d\"]", start):  # “[Data]” begins many a scope's preamble
        return "a bench file" if b'"format"' in head[:200] else "a JSON file"
    return ""


def read_text(path: Path, most: int = MOST_TEXT) -> str:
    """Return a file's UTF-8 text without its byte-order mark; raises Refusal where it cannot be had."""
    with open_regular(path, most) as stream:
        try:
            read = stream.read()
            return read.decode("utf-8-sig")
        except UnicodeDecodeError:
            kind = foreign(read[:300])
            raise Refusal(f"this is {kind}" if kind else "this is not UTF-8 text", where=str(path)) from None
        except OSError as error:
            raise Refusal(f"the file cannot be read ({error.strerror})", where=str(path)) from None


def sha256_of(path: Path) -> str:
    """Return the hex digest of a regular file's bytes."""
    with open_regular(path) as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def fingerprint(path: Path) -> str:
    """Return the digest of a file, or an empty text where there is none that can be read."""
    try:
        return sha256_of(path)
    except (Refusal, OSError):
        return ""


def shortened(text: object, most: int = 60) -> str:
    """Return a text for a message: one line, cut where it is long."""
    line = " ".join(str(text).split())
    return line if len(line) <= most else line[: most - 1] + "…"


def write_atomically(path: Path, content: str | bytes) -> None:
    """Write bytes, or text as UTF-8, so that the path holds either the old or the new content, never a part.

    Raises Refusal where it cannot be written, is write-protected or is no regular file.
    """
    try:
        path = path.resolve()
        if path.exists():
            mode = path.stat().st_mode
            if not stat.S_ISREG(mode):
                raise Refusal("this is not a file that can be replaced", _ELSEWHERE, where=str(path))
            if not mode & 0o222 or not os.access(path, os.W_OK):
                raise Refusal(
                    "the file is write-protected", "save under another name or make it writable", where=str(path)
                )
        else:
            mode = 0o666 & ~_umask()
        sweep(path)
        handle, temporary = tempfile.mkstemp(prefix=f"{_mark(path)}{os.getpid()}.", suffix=_PART, dir=path.parent)
    except (OSError, ValueError, RuntimeError) as error:  # a loop of links is a RuntimeError
        raise _unwritten(path, error) from None
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(content if isinstance(content, bytes) else content.encode())
            stream.flush()
            os.fsync(stream.fileno())
        os.chmod(temporary, mode & 0o777)
        os.replace(temporary, path)
    except (OSError, UnicodeEncodeError) as error:
        Path(temporary).unlink(missing_ok=True)
        raise _unwritten(path, error) from None


def _umask() -> int:
    """Return what new files are not allowed to be; asking changes it for a moment, so it is asked once."""
    global _MASK  # noqa: PLW0603 - of the whole process
    if _MASK is None:
        _MASK = os.umask(0o077)
        os.umask(_MASK)
    return _MASK


_MASK: int | None = None


def _unwritten(path: Path, error: Exception) -> Refusal:
    why = error.strerror if isinstance(error, OSError) else "it holds characters that no file can"
    if isinstance(error, RuntimeError):
        why = "its links lead in a circle"
    return Refusal(f"the file cannot be written ({why})", _ELSEWHERE, where=shortened(str(path), 200))


def _mark(path: Path) -> str:
    """Return how temporary files of a path begin on this machine; short, for the name itself may be as long as allowed."""
    key = hashlib.sha256(f"{platform.node()}\0{path.name}".encode(errors="replace")).hexdigest()[:10]
    return f".{path.name[:40]}.{key}."


def sweep(path: Path) -> None:
    """Remove what killed saves of this machine left beside a file."""
    _sweep(path.parent, _mark(path))


def sweep_folder(folder: Path) -> None:
    """Remove what killed saves left in a folder that is this program's alone."""
    _sweep(folder, ".")


def _sweep(folder: Path, mark: str) -> None:
    try:
        left = [e.name for e in os.scandir(folder) if e.name.startswith(mark) and e.name.endswith(_PART)]
    except OSError:
        return
    for name in left:
        pid = (
            name.rsplit(".", 3)[-3] if name.count(".") > 2 else ""
        )  # it ends in the process, some letters, and the suffix
        if pid.isdigit() and not Path(f"/proc/{pid}").exists():
            (folder / name).unlink(missing_ok=True)
