"""What sent bytes are, whatever their name says. Nothing sent costs more than about 100 MB and two seconds."""

import codecs
import json
import struct
import subprocess
import sys
import threading
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from io import BytesIO
from pathlib import Path
from typing import Final

import puremagic

from finesieve.core.errors import Unavailable

__all__ = ["Found", "Refused", "sniff"]

_READER: Final = Path(__file__).with_name("picture_reader.py")
_SECONDS: Final = 5
_AT_ONCE: Final = threading.BoundedSemaphore(2)
_WAIT: Final = 10
_SIGNS: Final = (b"\xff\xd8\xff", b"\x89PNG\r\n\x1a\n", b"GIF87a", b"GIF89a")
_OFFICE: Final = "application/vnd.openxmlformats-officedocument"
_OPEN: Final = frozenset(
    f"application/vnd.oasis.opendocument.{kind}" for kind in ("text", "spreadsheet", "presentation", "graphics")
)
_OTHER_NAMES: Final = {"audio/wave": "audio/wav", "application/ogg": "audio/ogg"}
_SOUNDS: Final = frozenset(("audio/mpeg", "audio/wav", "audio/ogg"))
_MOST_ENTRIES: Final = 512 * 1024
"""Bytes that the contents of an archive may take; a document has a few kilobytes of them."""


class Refused(ValueError):
    """The bytes cannot be kept; the words say why."""


@dataclass(frozen=True, slots=True)
class Found:
    """What bytes are: the media type; of a picture its width and height in pixels, and a small one as WebP."""

    media_type: str
    width: int = 0
    height: int = 0
    thumbnail: bytes = b""


def sniff(data: bytes) -> Found:
    """What the bytes are. Raises Refused for a picture that is broken or too large, Unavailable where many wait."""
    if data.startswith(_SIGNS) or (data[:4] == b"RIFF" and data[8:12] == b"WEBP"):
        return _picture(data)
    if data.startswith(b"PK\x03\x04"):
        return Found(_packed(data))
    found = _by_signature(data)
    if found and not found.startswith(("text/", "image/")) and found not in ("application/xml", "application/json"):
        return Found(found)
    return Found(_text(data))


def _by_signature(data: bytes) -> str:
    """The media type that the first and last bytes speak for; "" where they do not."""
    try:
        matches = [str(match.mime_type) for match in puremagic.magic_string(data)]
    except (puremagic.PureError, ValueError):
        return ""
    found = [_OTHER_NAMES.get(name, name) for name in matches if name]
    return next((name for name in found if name in _SOUNDS), found[0] if found else "")


def _picture(data: bytes) -> Found:
    if not _AT_ONCE.acquire(timeout=_WAIT):
        raise Unavailable("Many pictures are being sent right now; try again in a moment.")
    try:
        done = subprocess.run(  # noqa: S603 - our own program
            [sys.executable, "-I", str(_READER)], input=data, capture_output=True, timeout=_SECONDS, check=True
        )
    except (subprocess.CalledProcessError, subprocess.TimeoutExpired):
        raise Refused("This picture is too large to be read; make it smaller.") from None
    finally:
        _AT_ONCE.release()
    said, _, thumbnail = done.stdout.partition(b"\n")
    known = json.loads(said)
    if "refused" in known:
        raise Refused(str(known["refused"]))
    return Found(known["type"], known["width"], known["height"], thumbnail)


def _packed(data: bytes) -> str:
    """What a ZIP archive holds: a text or a sheet of an office program, or just files. Nothing is unpacked."""
    declared = _first_entry(data)
    if declared in _OPEN:
        return declared
    end = data.rfind(b"PK\x05\x06", max(0, len(data) - 65_557))
    if end < 0 or len(data) < end + 22 or struct.unpack_from("<I", data, end + 12)[0] > _MOST_ENTRIES:
        return "application/octet-stream"
    try:
        with zipfile.ZipFile(BytesIO(data)) as archive:
            names = set(archive.namelist())
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, OSError, ValueError, struct.error):
        return "application/octet-stream"
    if {"[Content_Types].xml", "word/document.xml"} <= names:
        return f"{_OFFICE}.wordprocessingml.document"
    if {"[Content_Types].xml", "xl/workbook.xml"} <= names:
        return f"{_OFFICE}.spreadsheetml.sheet"
    return "application/zip"


def _first_entry(data: bytes) -> str:
    """The text of a first entry `mimetype`, which stands there as it is, unpacked, and is short; else ""."""
    if len(data) < 30:
        return ""
    flags, packing = struct.unpack_from("<HH", data, 6)
    stored, size, name_length, extra_length = struct.unpack_from("<IIHH", data, 18)
    start = 30 + name_length + extra_length
    if data[30 : 30 + name_length] != b"mimetype" or packing or flags & 0x9 or stored != size or size > 200:
        return ""
    return data[start : start + size].decode("ascii", "replace")


def _pieces(data: bytes, size: int = 65_536) -> Iterator[str]:
    """The text of UTF-8 bytes, piece by piece. Raises UnicodeDecodeError."""
    decoder = codecs.getincrementaldecoder("utf-8")()
    for start in range(0, len(data), size):
        yield decoder.decode(data[start : start + size])
    yield decoder.decode(b"", final=True)


def _text(data: bytes) -> str:
    unknown = "application/octet-stream"
    try:
        if any("\x00" in piece for piece in _pieces(data)):
            return unknown
    except UnicodeDecodeError:
        return unknown
    # Markup is not taken for plain text: a browser might run what is in it.
    start = data[:4_096].lstrip(b"\xef\xbb\xbf \t\r\n")
    if not start or start.startswith(b"<"):
        return unknown if data else "text/plain"
    first = data.partition(b"\n")
    return "text/csv" if first[1] and b"," in first[0] else "text/plain"
