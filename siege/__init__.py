"""A siege of the whole program: kills, failing disks, hostile files, a window under attack, and a
long study.

`make siege` takes about an hour, `make siege MINUTES=10` ten minutes. All of it follows from a
seed. Each part prints what it tried and what it found; the table in docs/reliability.md is made of
that.
"""
