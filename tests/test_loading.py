"""What a program loads at once is kept, and what it makes later is still collected."""

from __future__ import annotations

import gc

import pytest

from mivlo.loading import loading


class _Ring:
    """Refers to itself: only a search for garbage frees it."""

    def __init__(self) -> None:
        self.itself = self


def _alive() -> int:
    return sum(isinstance(thing, _Ring) for thing in gc.get_objects())


def test_what_is_loaded_is_not_searched_and_garbage_made_later_goes() -> None:
    try:
        with loading():
            assert not gc.isenabled()
            loaded = _Ring()
        assert gc.isenabled()
        assert gc.get_freeze_count() > 0
        assert _alive() == 0  # frozen things are not among those that are searched
        _Ring()
        assert _alive() == 1
        gc.collect()
        assert _alive() == 0
        assert loaded.itself is loaded
    finally:
        gc.unfreeze()


def test_an_import_that_fails_leaves_the_search_on() -> None:
    with pytest.raises(ImportError), loading():
        raise ImportError
    assert gc.isenabled()
