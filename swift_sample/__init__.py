"""Swift Sample: the fastest render settings that an artist would still deliver."""

__version__ = "0.1.0"
