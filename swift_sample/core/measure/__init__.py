"""Measures: how far a picture is from the reference, how long renders take, and how sure both
are."""
