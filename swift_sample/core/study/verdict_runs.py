"""What a verdict may cost, and from when on a faster trial is worth it: known to searches and to how many runs trials get."""

MOST_FOR_VERDICT = 3
"""Runs beyond the study's number that may be spent on an open verdict."""
WORTH_GAIN = 0.03
"""A configuration must promise to be faster than the pick by more than this share."""
