"""Several machines: jobs of a study done on others, with `dask.distributed` as the engine (extra
`cluster`).

A machine joins a meeting place (the engine's scheduler); an `Agent` in its process keeps what
travelled there and has the same worker process that renders on one machine. A `Fleet` at the
study's side knows who is there, and each `RemoteLink` of it takes the place of a `WorkerLink`.
"""
