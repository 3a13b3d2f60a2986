"""The core's few exceptions.

MivloError               anything we say no to, in a sentence for a musician
├── InvalidValue         a parameter outside of what it can be (name, value, bound)
│   ├── UnknownKey       a document says something that nobody knows
│   └── MissingKey       a document does not say what it must
└── BadAudio             sound that can't be used (empty, NaN, too many channels)
"""

from __future__ import annotations


class MivloError(Exception):
    """Base of all our errors; its text is meant to be shown to the user as it is."""


def short(value: object, most: int = 200) -> str:
    """A value as it is quoted in a sentence: at most so many signs."""
    text = repr(value)
    return text if len(text) <= most else f"{text[: most - 3]}..."


class InvalidValue(MivloError, ValueError):
    """A parameter is impossible; the text gives its name, the value and the bound it broke."""

    def __init__(self, name: str, value: object, bound: str) -> None:
        super().__init__(f"{name} is {short(value)}, but {bound}.")
        self.name = name
        self.value = value
        self.bound = bound


class UnknownKey(InvalidValue):
    """A document has a key that nothing reads; the text names it."""

    def __init__(self, name: str, value: object) -> None:
        MivloError.__init__(self, f"{name} is not a known key.")
        self.name = name
        self.value = value


class MissingKey(InvalidValue):
    """A document lacks a key that is needed; the text names it."""

    def __init__(self, name: str) -> None:
        MivloError.__init__(self, f"{name} is missing.")
        self.name = name
        self.value = None


class BadAudio(MivloError):
    """Samples that can't be used; the text says why and what to do."""
