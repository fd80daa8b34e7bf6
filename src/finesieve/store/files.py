"""Files on disk: each once, by the hash of its bytes, outside of anything the web serves."""

import hashlib
import os
import tempfile
import zipfile
from io import BytesIO
from pathlib import Path
from typing import Final

import puremagic
from PIL import Image, UnidentifiedImageError

from finesieve.core.values import StoredFile

__all__ = ["FileStore", "Refused", "clean_name", "sniff"]

MOST_PIXELS: Final = 50_000_000
THUMBNAIL: Final = 320
_PICTURES: Final = {"JPEG": "image/jpeg", "PNG": "image/png", "GIF": "image/gif", "WEBP": "image/webp"}


class Refused(ValueError):
    """The bytes cannot be kept; the words say why."""


def clean_name(name: str) -> str:
    """A file's name, safe to show and to offer for a download: no path, no control signs, at most 120 characters."""
    base = name.replace("\\", "/").rpartition("/")[2]
    kept = "".join(sign for sign in base if sign.isprintable() and sign not in '<>:"|?*\x7f').strip(" .")
    stem, dot, ending = kept.rpartition(".")
    if not dot:
        return kept[:120] or "file"
    return f"{stem[: 119 - len(ending[:20])]}.{ending[:20]}" if stem else kept[:120]


def sniff(data: bytes) -> tuple[str, int, int]:
    """What the bytes are, whatever their name says: media type, and width and height of a picture.

    Raises Refused for a picture that is broken or too large.
    """
    try:
        with Image.open(BytesIO(data)) as picture:
            kind = _PICTURES.get(picture.format or "")
            if kind:
                width, height = picture.size
                if width * height > MOST_PIXELS:
                    raise Refused("This picture has too many pixels; at most 50 million.")
                picture.verify()
                return kind, width, height
    except UnidentifiedImageError:
        pass
    except (OSError, SyntaxError, ValueError, Image.DecompressionBombError) as problem:
        if isinstance(problem, Refused):
            raise
        raise Refused("This picture cannot be read.") from None
    return _other(data), 0, 0


_OFFICE: Final = "application/vnd.openxmlformats-officedocument"


def _packed(data: bytes) -> str:
    """What a ZIP archive holds: a text or a sheet of an office program, or just files."""
    try:
        with zipfile.ZipFile(BytesIO(data)) as archive:
            names = archive.namelist()
            if names[:1] == ["mimetype"] and archive.getinfo("mimetype").file_size < 200:
                return archive.read("mimetype").decode("ascii", "replace")
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, OSError):
        return "application/octet-stream"
    if "[Content_Types].xml" in names and "word/document.xml" in names:
        return f"{_OFFICE}.wordprocessingml.document"
    if "[Content_Types].xml" in names and "xl/workbook.xml" in names:
        return f"{_OFFICE}.spreadsheetml.sheet"
    return "application/zip"


def _other(data: bytes) -> str:
    if data.startswith(b"PK\x03\x04"):
        return _packed(data)
    try:
        found = str(puremagic.from_string(data, mime=True))
    except (puremagic.PureError, ValueError):
        found = ""
    if found and not found.startswith("text/") and found not in ("image/svg+xml", "application/xml"):
        return found
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        return found or "application/octet-stream"
    # Markup is not taken for plain text: a browser might run what is in it.
    if "\x00" in text or text.lstrip("\ufeff \t\r\n").startswith("<"):
        return "application/octet-stream"
    return "text/csv" if "," in text.partition("\n")[0] and "\n" in text else "text/plain"


class FileStore:
    """The files of all workspaces, each workspace in its own directory."""

    def __init__(self, root: Path) -> None:
        self._root = root

    def _path(self, workspace_id: int, digest: str) -> Path:
        if len(digest) != 64 or not digest.isalnum():
            raise ValueError("no digest")
        return self._root / str(int(workspace_id)) / digest[:2] / digest

    def keep(self, workspace_id: int, name: str, data: bytes) -> StoredFile:
        """Keep bytes; gives what is known of them. Raises Refused."""
        media_type, width, height = sniff(data)
        digest = hashlib.sha256(data).hexdigest()
        path = self._path(workspace_id, digest)
        if not path.exists():
            self._write(path, data)
            if width:
                self._write(path.with_suffix(".thumb"), _thumbnail(data))
        return StoredFile(digest, clean_name(name), media_type, len(data), width, height)

    def _write(self, path: Path, data: bytes) -> None:
        """All of it or nothing: a reader never sees half a file."""
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        handle, passing = tempfile.mkstemp(dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        os.replace(passing, path)

    def read(self, workspace_id: int, digest: str) -> bytes | None:
        """The bytes; None where they are gone."""
        path = self._path(workspace_id, digest)
        return path.read_bytes() if path.exists() else None

    def thumbnail(self, workspace_id: int, digest: str) -> bytes | None:
        """A small picture as WebP; None for what is no picture."""
        path = self._path(workspace_id, digest).with_suffix(".thumb")
        return path.read_bytes() if path.exists() else None


def _thumbnail(data: bytes) -> bytes:
    with Image.open(BytesIO(data)) as picture:
        small = picture.convert("RGBA" if picture.mode in ("RGBA", "LA", "P") else "RGB")
        small.thumbnail((THUMBNAIL, THUMBNAIL))
        out = BytesIO()
        small.save(out, "WEBP", quality=80)
        return out.getvalue()
