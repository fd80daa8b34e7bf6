"""A picture for tests."""

import io

from PIL import Image


def png(width: int = 900, height: int = 600) -> bytes:
    data = io.BytesIO()
    Image.new("RGB", (width, height), "#205844").save(data, "PNG")
    return data.getvalue()
