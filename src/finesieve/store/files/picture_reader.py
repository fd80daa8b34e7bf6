"""Reads one picture from standard input: a program of its own, so that the system bounds what a picture may cost.

Writes a line of JSON, `{"type", "width", "height"}` or `{"refused"}`, and after it a small picture as WebP.
It imports nothing of the application.
"""

import json
import resource
import signal
import sys
from io import BytesIO

from PIL import Image

MOST_PIXELS = 50_000_000
LARGE = 10_000_000
MOST_MEMORY = 90 * 1024 * 1024
# Of work, starting included; so that with what is around it a file costs no more than two.
MOST_SECONDS = 1.6
THUMBNAIL = 320
TYPES = {"JPEG": "image/jpeg", "PNG": "image/png", "GIF": "image/gif", "WEBP": "image/webp"}


def read(data: bytes) -> tuple[dict[str, object], bytes]:
    """What a picture is, and a small one of it."""
    pixels = 0
    try:
        with Image.open(BytesIO(data), formats=tuple(TYPES)) as picture:
            width, height = picture.size
            pixels = width * height
            if pixels > MOST_PIXELS:
                return {"refused": "This picture has too many pixels; at most 50 million."}, b""
            found = {"type": TYPES[picture.format or ""], "width": width, "height": height}
            return found, small(picture)
    except (MemoryError, OSError, SyntaxError, ValueError, KeyError, Image.DecompressionBombError) as problem:
        # The decoders say of a lack of memory that the picture is broken.
        if isinstance(problem, MemoryError) or pixels > LARGE:
            return {"refused": "This picture is too large to be read; make it smaller."}, b""
        return {"refused": "This picture cannot be read."}, b""


def small(picture: Image.Image) -> bytes:
    """The picture within 320 by 320, as WebP."""
    # A JPEG is decoded at a fraction of its size, where that is enough.
    picture.draft("RGB", (2 * THUMBNAIL, 2 * THUMBNAIL))
    factor = max(1, min(picture.size) // (2 * THUMBNAIL))
    reduced = picture.reduce(factor) if factor > 1 and picture.mode not in ("P", "1") else picture
    reduced.thumbnail((THUMBNAIL, THUMBNAIL))
    out = BytesIO()
    clear = reduced.mode in ("RGBA", "LA", "PA") or "transparency" in reduced.info
    reduced.convert("RGBA" if clear else "RGB").save(out, "WEBP", quality=80)
    return out.getvalue()


def main() -> None:
    Image.MAX_IMAGE_PIXELS = None  # the limit of our own is looked at before anything is decoded
    Image.init()
    resource.setrlimit(resource.RLIMIT_DATA, (MOST_MEMORY, MOST_MEMORY))
    # The signal ends the process.
    signal.setitimer(signal.ITIMER_PROF, MOST_SECONDS)
    found, thumbnail = read(sys.stdin.buffer.read())
    sys.stdout.buffer.write(json.dumps(found).encode() + b"\n" + thumbnail)


if __name__ == "__main__":
    main()
