"""What moves do to sound: one processor a kind, all with the same protocol.

A new kind registers the class that makes it sound in `PROCESSORS`, under the name of its `mode`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from mivlo.core.processors.adaptive import AdaptiveProcessor
from mivlo.core.processors.care import ClipProcessor, HarmonicsProcessor, ReverbProcessor
from mivlo.core.processors.cascade import Cascade
from mivlo.core.processors.dynamic import CompressorProcessor, DynamicProcessor
from mivlo.core.processors.phased import AnalogueProcessor, LinearProcessor
from mivlo.core.processors.protocol import FORGOTTEN, GLIDE_S, CareValue, Keys, Processor, Step, checked_block
from mivlo.core.processors.static import StaticProcessor

Maker = Callable[[float, int, Sequence[Step]], Processor]
"""Makes a processor of a sample rate, a number of channels, and the steps to start with."""

PROCESSORS: dict[str, Maker] = {
    "static": StaticProcessor,
    "rungs": StaticProcessor,
    "linear": LinearProcessor,
    "analogue": AnalogueProcessor,
    "dynamic": DynamicProcessor,
    "adaptive": AdaptiveProcessor,
    "compressors": CompressorProcessor,
    "clip": ClipProcessor,
    "harmonics": HarmonicsProcessor,
    "reverb": ReverbProcessor,
}
"""By the mode of a move; static moves of another phase by that, the aftercare by its parts."""

__all__ = [
    "FORGOTTEN",
    "GLIDE_S",
    "PROCESSORS",
    "AdaptiveProcessor",
    "CareValue",
    "Cascade",
    "DynamicProcessor",
    "Keys",
    "Maker",
    "Processor",
    "StaticProcessor",
    "Step",
    "checked_block",
]
