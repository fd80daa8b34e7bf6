"""Files made to hurt, and what reading one costs."""

import io
import json
import subprocess
import sys
import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from struct import pack

from PIL import Image

_MEASURE = """
import json, resource, sys
from finesieve.store.files.sniffing import Refused, sniff
data = open(sys.argv[1], "rb").read()
before = resource.getrusage(resource.RUSAGE_SELF)
try:
    said = sniff(data).media_type
except Refused as why:
    said = str(why)
after, child = resource.getrusage(resource.RUSAGE_SELF), resource.getrusage(resource.RUSAGE_CHILDREN)
seconds = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime + child.ru_utime + child.ru_stime
print(json.dumps([seconds, max(after.ru_maxrss - before.ru_maxrss, child.ru_maxrss) / 1024, said]))
"""


def cost_of(data: bytes) -> tuple[float, float, str]:
    """What reading a file costs, in seconds of work and megabytes, and what was said of it."""
    with tempfile.NamedTemporaryFile() as file:
        file.write(data)
        file.flush()
        done = subprocess.run([sys.executable, "-c", _MEASURE, file.name], capture_output=True, check=True)
    seconds, megabytes, said = json.loads(done.stdout)
    return seconds, megabytes, said


def _packed(name: str, size: int, packing: int) -> bytes:
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w", packing) as archive, archive.open(name, "w", force_zip64=True) as entry:
        for _ in range(size // 2**20):
            entry.write(bytes(2**20))
    return data.getvalue()


def _lying(data: bytes) -> bytes:
    """The archive, saying that its first entry is short."""
    return data[:22] + pack("<I", 40) + data[26:]


def _png(width: int, height: int, depth: int, colour: int, rows: bytes) -> bytes:
    def chunk(kind: bytes, body: bytes) -> bytes:
        return pack(">I", len(body)) + kind + body + pack(">I", zlib.crc32(kind + body))

    head = chunk(b"IHDR", pack(">IIBBBBB", width, height, depth, colour, 0, 0, 0))
    return b"\x89PNG\r\n\x1a\n" + head + chunk(b"IDAT", rows) + chunk(b"IEND", b"")


def _picture(kind: str, size: tuple[int, int], mode: str = "RGB", **options: object) -> bytes:
    data = io.BytesIO()
    Image.new(mode, size).save(data, kind, **options)
    return data.getvalue()


def hostile_files() -> Iterator[tuple[str, bytes]]:
    """Each with its name."""
    for name, packing in (("deflated", zipfile.ZIP_DEFLATED), ("bzip2", zipfile.ZIP_BZIP2), ("lzma", zipfile.ZIP_LZMA)):
        packed = _packed("mimetype", 256 * 2**20, packing)
        yield f"an archive, {name}", packed
        yield f"an archive, {name}, that lies", _lying(packed)
    entries = io.BytesIO()
    with zipfile.ZipFile(entries, "w") as archive:
        for number in range(60_000):
            archive.writestr(str(number), "")
    yield "an archive of many entries", entries.getvalue()
    rows = zlib.compress(bytes(200 * 2**20), 9)
    yield "a picture of 200 million pixels", _png(20_000, 10_000, 8, 0, rows)
    yield "a picture of deep colours", _png(7_000, 7_000, 16, 6, rows)
    yield "a picture that lies", _png(100, 100, 8, 6, rows)
    yield "a clear picture", _picture("PNG", (7_000, 7_000), "RGBA")
    yield "a progressive picture", _picture("JPEG", (7_000, 7_000), progressive=True, subsampling=0)
    scans = _picture("JPEG", (4_000, 4_000), progressive=True)
    start = scans.rindex(b"\xff\xda")
    yield "a picture of many scans", scans[:start] + scans[start:-2] * 20_000 + b"\xff\xd9"
    yield (
        "a picture with many words",
        _picture("PNG", (10, 10))[:33]
        + b"".join(
            pack(">I", len(body)) + b"zTXt" + body + pack(">I", zlib.crc32(b"zTXt" + body))
            for body in [b"a\0\0" + zlib.compress(bytes(900_000), 9)] * 200
        )
        + _picture("PNG", (10, 10))[33:],
    )
    yield "a moving picture", _picture("GIF", (6_000, 6_000), "P")
    yield "a picture of the web", _picture("WEBP", (6_000, 6_000), lossless=True)
    yield "a wide text", ("🌱" * 2_400_000).encode()
    yield "a text in one line", b"a," * 5_000_000
    yield "nothing at all", bytes(10_000_000)
