"""The window: `shell` is the frame and what belongs to the whole of it."""
