"""The engine that machines are joined by, where it is installed: how it is set, and what it
trusts."""

import ipaddress
import logging
import os
import socket
from collections.abc import Mapping
from datetime import UTC, datetime
from functools import cache
from importlib.util import find_spec
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from swift_sample.core.errors import UsageError, one_line

HOW_TO_GET = "several machines need the extra `cluster`: pip install 'swift-sample[cluster]'"
PORT = 8786
LOOPBACK_PAGES = "127.0.0.1:0"
"""Where the engine serves its pages about itself. No key protects them, so nobody beyond this
computer reaches them."""
AUTHORITY = "machines.pem"
KEY = "machines.key"
"""Files of a folder of keys: one certificate that all machines show and expect, and its private
key."""
SETTINGS: Mapping[str, Any] = {
    "distributed.scheduler.worker-ttl": "60s",
    "distributed.scheduler.allowed-failures": 0,
    "distributed.worker.profile.enabled": False,  # it looks at threads while renders are timed
    "distributed.worker.memory.target": False,
    "distributed.worker.memory.spill": False,
    "distributed.worker.memory.pause": False,
    "distributed.worker.memory.terminate": False,
    "distributed.comm.timeouts.connect": "10s",
    "distributed.comm.timeouts.tcp": "30s",
    "distributed.admin.large-graph-warning-threshold": "100MB",
}


def prepare() -> None:
    """Have the engine at hand, set as it is wanted here. Raises UsageError where it is not
    installed."""
    try:
        import dask
        import distributed
    except ImportError as error:
        raise UsageError(HOW_TO_GET) from error

    dask.config.set(
        {key: value for key, value in SETTINGS.items() if _in_surroundings(key) not in os.environ}
    )
    assert distributed is not None
    _have_it_write_to_our_log()


def _have_it_write_to_our_log() -> None:
    """What the engine has to say of itself stands in the log; the terminal is for people, who are
    told what it means."""
    ours = logging.getLogger("swift_sample")
    for name in [*logging.root.manager.loggerDict, "tornado.application", "asyncio"]:
        if name.partition(".")[0] not in ("distributed", "tornado", "asyncio"):
            continue
        logger = logging.getLogger(name)
        logger.handlers = [*ours.handlers]
        logger.propagate = False
        logger.setLevel(logging.CRITICAL if ours.handlers else logging.CRITICAL + 1)


def _in_surroundings(key: str) -> str:
    """By which variable the engine takes a setting from outside, which goes before this
    program's."""
    return f"DASK_{key.replace('.', '__').replace('-', '_').upper()}"


@cache
def is_here() -> bool:
    """Whether several machines can be had at all; nothing of the engine is loaded by asking."""
    return all(find_spec(name) is not None for name in ("dask", "distributed"))


def checked_address(address: str, keys: Path | None, unprotected: bool) -> str:
    """An address as the engine takes it: "tcp://host:port", or "tls://host:port" with keys. Raises
    UsageError for one beyond this computer without keys, unless the user insists."""
    text = address if "://" in address else f"{'tls' if keys is not None else 'tcp'}://{address}"
    try:
        parts = urlsplit(text)
        host = parts.hostname
        port = parts.port or PORT
    except ValueError as error:
        raise UsageError(
            f"{address[:80]}: expected HOST or HOST:PORT ({one_line(error)})"
        ) from error

    if parts.scheme not in ("tcp", "tls") or not host or parts.path or parts.query:
        raise UsageError(f"{address[:80]}: expected HOST or HOST:PORT")
    if keys is not None and parts.scheme == "tcp":
        raise UsageError(f"{address[:80]}: keys are given, so it begins with tls:// or nothing")
    if keys is None and parts.scheme == "tls":
        raise UsageError(f"{address[:80]}: give the folder of its keys (--keys)")

    if keys is None and not unprotected and not _is_this_computer(host):
        raise UsageError(
            f"{address[:80]}: is another computer, and whoever reaches the machines can run "
            "programs on them; make keys with "
            "`swift-sample machines keys FOLDER` and give --keys, or insist with --unprotected"
        )

    return f"{parts.scheme}://{f'[{host}]' if ':' in host else host}:{port}"


def listening_host(address: str) -> str:
    """Where a machine that joins a checked address listens for the others: at the one address of
    its own that reaches the meeting place, which is the loopback where they meet on this computer.

    Without a host the engine listens at every address of the computer, and whoever reaches one can
    run programs there. Raises OSError where nothing reaches it.
    """
    parts = urlsplit(address)
    family, *_, there = socket.getaddrinfo(parts.hostname, parts.port, type=socket.SOCK_DGRAM)[0]

    with socket.socket(family, socket.SOCK_DGRAM) as probe:
        probe.connect(there)  # sends nothing: it has the system choose the way
        return str(probe.getsockname()[0])


def _is_this_computer(host: str) -> bool:
    if host == "localhost":
        return True

    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def security(keys: Path | None) -> Any:
    """What the engine shows and expects, of a folder of keys; None without. Raises UsageError."""
    if keys is None:
        return None

    from distributed.security import Security

    certificate = keys / AUTHORITY
    key = keys / KEY

    for path in (certificate, key):
        if not path.is_file():
            raise UsageError(
                f"{keys}: holds no {path.name}; make keys with `swift-sample machines keys {keys}`"
            )

    if key.stat().st_mode & 0o077:
        raise UsageError(f"{key}: others may read it; `chmod 600 {key}`")

    ends = keys_end(keys)
    if ends < datetime.now(UTC):
        raise UsageError(
            f"{keys}: ended on {ends:%Y-%m-%d}; make new keys with `swift-sample machines "
            "keys` and copy them to each machine"
        )

    own = {
        f"tls_{role}_{what}": str(path)
        for role in ("client", "scheduler", "worker")
        for what, path in (("cert", certificate), ("key", key))
    }
    return Security(require_encryption=True, tls_ca_file=str(certificate), **own)


def keys_end(folder: Path) -> datetime:
    """When keys stop being accepted, in UTC. Raises UsageError where they are none."""
    from cryptography.x509 import load_pem_x509_certificate

    try:
        return load_pem_x509_certificate((folder / AUTHORITY).read_bytes()).not_valid_after_utc
    except (OSError, ValueError) as error:
        raise UsageError(f"{folder / AUTHORITY}: is no certificate ({one_line(error)})") from error


def make_keys(folder: Path) -> datetime:
    """Write a new certificate and its key into a folder, which is then copied to every machine;
    returns when they end, in UTC. Raises UsageError."""
    prepare()
    from distributed.security import Security

    if (folder / KEY).exists():
        raise UsageError(f"{folder}: holds keys already; choose another folder")

    try:
        made = Security.temporary()
    except ImportError as error:
        raise UsageError(HOW_TO_GET) from error

    try:
        folder.mkdir(parents=True, exist_ok=True)
        (folder / AUTHORITY).write_text(str(made.tls_ca_file), "utf-8")
        (folder / KEY).touch(mode=0o600)
        (folder / KEY).write_text(str(made.tls_worker_key), "utf-8")
    except OSError as error:
        raise UsageError(f"{folder}: keys cannot be written ({one_line(error)})") from error

    return keys_end(folder)
