"""The page *Map*: every trial by time and limit share."""
