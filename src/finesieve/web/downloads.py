"""Files as downloads: never shown by a browser, whatever is in them."""

from starlette.responses import Response

from finesieve.services.values.files import OpenedFile

__all__ = ["as_download"]


def as_download(opened: OpenedFile) -> Response:
    """A file under its name."""
    ascii_name = opened.file.name.encode("ascii", "replace").decode().replace('"', "'").replace("?", "_")
    headers = {"Content-Disposition": f'attachment; filename="{ascii_name}"', "Cache-Control": "private, no-store"}
    return Response(opened.data, media_type="application/octet-stream", headers=headers)
