"""The demo song "Tide Clock", synthesised: a small ensemble in a tiled bath house."""
