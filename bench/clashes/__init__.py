"""How right clashes and carves are: tracks with planted clashes, natural ones, and controls that do not clash."""
