"""Files on disk: each once, by the hash of its bytes, outside of anything the web serves."""

import hashlib
import os
import re
import tempfile
from pathlib import Path

from finesieve.core.values import StoredFile
from finesieve.store.files.sniffing import Found

__all__ = ["FileStore", "clean_name", "described"]


def clean_name(name: str) -> str:
    """A file's name, safe to show and to offer for a download: no path, no control signs, at most 120 characters."""
    base = name.replace("\\", "/").rpartition("/")[2]
    kept = "".join(sign for sign in base if sign.isprintable() and sign not in '<>:"|?*\x7f').strip(" .")
    stem, dot, ending = kept.rpartition(".")
    if not dot:
        return kept[:120] or "file"
    return f"{stem[: 119 - len(ending[:20])]}.{ending[:20]}" if stem else kept[:120]


def described(name: str, data: bytes, found: Found) -> StoredFile:
    """What is known of bytes that are to be kept."""
    digest = hashlib.sha256(data).hexdigest()
    return StoredFile(digest, clean_name(name), found.media_type, len(data), found.width, found.height)


class FileStore:
    """The files of all workspaces, each workspace in its own directory."""

    def __init__(self, root: Path) -> None:
        self._root = root

    def _path(self, workspace_id: int, digest: str) -> Path:
        if len(digest) != 64 or not digest.isalnum():
            raise ValueError("no digest")
        return self._root / str(int(workspace_id)) / digest[:2] / digest

    def keep(self, workspace_id: int, data: bytes, thumbnail: bytes = b"") -> None:
        """Keep bytes, and of a picture a small one; nothing is done where they are there."""
        path = self._path(workspace_id, hashlib.sha256(data).hexdigest())
        small = path.with_suffix(".thumb")
        if thumbnail and not small.exists():
            self._write(small, thumbnail)
        if not path.exists():
            self._write(path, data)

    def prepared(self, workspace_id: int, name: str) -> Path:
        """Where a file that was prepared for somebody lies, or would."""
        if not re.fullmatch(r"[a-z0-9.-]{1,80}", name) or name.startswith("."):
            raise ValueError("no name of a prepared file")
        return self._root / str(int(workspace_id)) / "prepared" / name

    def forget_prepared(self, workspace_id: int, before: float) -> int:
        """Remove the files that were prepared before a moment (seconds since 1970); gives how many."""
        old = [
            one for one in (self._root / str(int(workspace_id)) / "prepared").glob("*") if one.stat().st_mtime < before
        ]
        for one in old:
            one.unlink(missing_ok=True)
        return len(old)

    def forget(self, workspace_id: int, digest: str) -> None:
        """Remove bytes and their small picture."""
        path = self._path(workspace_id, digest)
        path.unlink(missing_ok=True)
        path.with_suffix(".thumb").unlink(missing_ok=True)

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
