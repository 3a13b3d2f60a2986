"""Files that appear under their name only when they are complete."""

from __future__ import annotations

import json
import os
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from mivlo.core.errors import MivloError

_TOLD_BY = 40


@contextmanager
def written_whole(place: Path) -> Iterator[Path]:
    """Where to write what shall be the file `place`; it gets that name at the end, unless something went wrong."""
    # told by its place's name, cut so that no name is too long; removed by us alone, as nobody else knows it
    partial = place.with_name(f"{place.name[:_TOLD_BY]}.{uuid.uuid4().hex}.part")
    try:
        yield partial
        partial.replace(place)
    finally:
        partial.unlink(missing_ok=True)


def write_json(place: Path, document: Any) -> None:
    """A document as a file, whole or not at all."""
    with written_whole(place) as partial:
        partial.write_text(json.dumps(document, indent=2, ensure_ascii=False) + "\n", encoding="utf-8")


def check_place(out: Path) -> None:
    """MivloError where no file can be written."""
    if out.is_dir() or not out.parent.is_dir() or not os.access(out.parent, os.W_OK):
        raise MivloError(f"Could not write {out}: there is no folder {out.parent} in which you may write a file.")
