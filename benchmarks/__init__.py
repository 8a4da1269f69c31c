"""Speed as ratios, each measured in one run by alternating repeats, medians of at least five. Not
tests."""
