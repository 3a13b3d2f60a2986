"""An installation for each test: what one leaves behind is none of the next one's business."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from tests.hard.starting import Installation, installation


@pytest.fixture
def running() -> Iterator[Installation]:
    """Started, with its server and a worker."""
    with installation() as made:
        made.start()
        made.wait_until_up()
        yield made
