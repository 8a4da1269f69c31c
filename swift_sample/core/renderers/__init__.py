"""What can render. `port` is all that the rest of the program knows of a renderer; the others
implement it."""
