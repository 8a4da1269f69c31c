"""The report and open data: what a study found, for people who were not there."""
