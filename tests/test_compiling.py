"""What set-up compiles ahead is all that there is to compile."""

from __future__ import annotations

import importlib
import pkgutil

from numba.core.registry import CPUDispatcher

import mivlo.core
import mivlo.demo
from mivlo.compiling import PARTS


def _compiled_functions() -> dict[int, CPUDispatcher]:
    found = {}
    packages = (mivlo.core, mivlo.demo)
    modules = (module for p in packages for module in pkgutil.walk_packages(p.__path__, f"{p.__name__}."))
    for module in modules:
        for value in vars(importlib.import_module(module.name)).values():
            if isinstance(value, CPUDispatcher):
                found[id(value)] = value
    return found


def _calls(one: CPUDispatcher) -> list[CPUDispatcher]:
    names = one.py_func.__globals__
    called = [names[name] for name in one.py_func.__code__.co_names if name in names]
    return [other for other in called if isinstance(other, CPUDispatcher)]


def test_nothing_is_left_to_be_compiled_when_somebody_listens() -> None:
    for part in PARTS.values():
        part()
    every = _compiled_functions()
    reached = [one for one in every.values() if one.signatures]
    known = {id(one) for one in reached}
    while reached:
        for other in _calls(reached.pop()):
            if id(other) not in known:
                known.add(id(other))
                reached.append(other)
    assert len(every) > 50
    assert sorted(one.py_func.__qualname__ for key, one in every.items() if key not in known) == []
