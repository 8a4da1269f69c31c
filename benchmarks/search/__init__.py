"""Whether a search, and a measured study, find what they should."""
