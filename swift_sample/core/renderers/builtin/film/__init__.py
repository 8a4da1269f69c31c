"""What a render accumulates per pixel, when a pixel has had enough, and what one render tells of
others."""
