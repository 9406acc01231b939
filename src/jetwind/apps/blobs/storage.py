"""Files of the blob store on a disk: a reader finds a whole file or none."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path
from typing import Any

from django.core.files.base import File
from django.core.files.storage import FileSystemStorage


class WholeFiles(FileSystemStorage):
    """A storage whose files are written beside their place and moved there when they are whole; a file that is there is replaced."""

    def get_available_name(self, name: str, max_length: int | None = None) -> str:
        """The name itself: the same name always stands for the same octets."""
        return name

    def _save(self, name: str, content: File[Any]) -> str:
        place = Path(self.path(name))
        place.parent.mkdir(mode=self.directory_permissions_mode or 0o777, parents=True, exist_ok=True)
        number, name_beside = tempfile.mkstemp(prefix=".new-", dir=place.parent)
        beside = Path(name_beside)
        try:
            with os.fdopen(number, "wb") as file:
                for chunk in content.chunks():
                    file.write(chunk)
                file.flush()
                os.fsync(file.fileno())
            beside.chmod(self.file_permissions_mode or 0o644)
            beside.replace(place)
        except BaseException:
            beside.unlink()
            raise
        return name
