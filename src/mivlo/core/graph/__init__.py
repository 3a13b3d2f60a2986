"""Strips, the plan they make, and the renderer: the only place where sound is made."""

from mivlo.core.graph.offline import TreatedSound, render, treat, treated_blocks
from mivlo.core.graph.plan import CircularRouting, Plan, compile
from mivlo.core.graph.renderer import OFFLINE_GRID, Point, Renderer, RendererState, Tap, blocks
from mivlo.core.graph.strips import HIGHEST_FADER_DB, LOWEST_FADER_DB, Strip, StripKind, pan_gains

__all__ = [
    "HIGHEST_FADER_DB",
    "LOWEST_FADER_DB",
    "OFFLINE_GRID",
    "CircularRouting",
    "Plan",
    "Point",
    "Renderer",
    "RendererState",
    "Strip",
    "StripKind",
    "Tap",
    "TreatedSound",
    "blocks",
    "compile",
    "pan_gains",
    "render",
    "treat",
    "treated_blocks",
]
