"""Meeting places, keys and the command line; and a network that is cut and comes back."""

import json
import logging
import os
import shutil
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path
from types import SimpleNamespace

import psutil
import pytest

from swift_sample.cli import run
from swift_sample.core.errors import UsageError, WorkerError
from swift_sample.core.machines import engine
from swift_sample.core.machines.agent import Agent
from swift_sample.core.machines.content import Content, digest_of
from swift_sample.core.machines.engine import checked_address
from swift_sample.core.machines.fleet import Fleet, RemoteLink
from swift_sample.core.machines.messages import Order
from swift_sample.core.study.answers.kinds import kinds_of, machines_of_frames
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.notices import Notice, StepStarted
from swift_sample.core.study.measuring.policies import Framing, Searching, Sweeping
from swift_sample.core.study.measuring.steps import RunStep
from swift_sample.core.study.plan.model import FramePlan
from swift_sample.core.worker.lease import Lease
from swift_sample.core.worker.messages import REQUESTS, Ready, Void, WarmUpJob
from tests.core.machines.meeting import Meeting
from tests.core.machines.test_fleet import measured, words_of
from tests.core.renderers.known import KNOWN

Open = Callable[..., Driver]
HERE = "10.213.77.1"
THERE = "10.213.77.2"


@pytest.mark.parametrize(
    ("address", "keys", "unprotected", "words"),
    [
        (
            "10.0.0.7",
            None,
            False,
            "is another computer, and whoever reaches the machines can run programs on them",
        ),
        ("http://127.0.0.1", None, False, "expected HOST or HOST:PORT"),
        ("tcp://127.0.0.1:x", None, False, "expected HOST or HOST:PORT"),
        ("127.0.0.1/a", None, False, "expected HOST or HOST:PORT"),
        ("tls://10.0.0.7", None, False, "give the folder of its keys"),
        ("tcp://10.0.0.7", Path("keys"), False, "keys are given, so it begins with tls://"),
    ],
)
def test_an_address_is_only_trusted_with_keys_or_on_this_computer(
    address: str, keys: Path | None, unprotected: bool, words: str
) -> None:
    with pytest.raises(UsageError) as told:
        checked_address(address, keys, unprotected)
    assert words in str(told.value)


def test_addresses_that_can_be_used() -> None:
    assert checked_address("127.0.0.1", None, False) == f"tcp://127.0.0.1:{engine.PORT}"
    assert checked_address("localhost:9", None, False) == "tcp://localhost:9"
    assert checked_address("10.0.0.7", Path("keys"), False) == f"tls://10.0.0.7:{engine.PORT}"
    assert checked_address("10.0.0.7:1", None, True) == "tcp://10.0.0.7:1"


def test_without_the_engine_it_says_how_to_get_it(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture
) -> None:
    def missing(name: str, *arguments: object, real: Callable = __import__) -> object:
        if name in ("dask", "distributed"):
            raise ImportError(name)
        return real(name, *arguments)

    monkeypatch.setattr("builtins.__import__", missing)
    assert run(["machines", "list"]) == 2
    assert "pip install 'swift-sample[cluster]'" in capsys.readouterr().err


def test_what_travels_is_kept_by_content_and_checked(tmp_path: Path) -> None:
    content = Content(tmp_path / "kept")
    file = tmp_path / "a.bin"
    file.write_bytes(b"honey" * 1000)
    digest = digest_of(file)
    assert not content.add_piece(digest, "s", 0, b"honey" * 400)
    with pytest.raises(WorkerError, match="a piece of a file is missing"):
        content.add_piece(digest, "s", 4000, b"honey" * 200)

    assert not content.has(digest)
    with pytest.raises(WorkerError, match="a file arrived damaged"):
        content.add_piece(digest, "s", 0, b"money" * 1000)

    assert content.add_piece(digest, "s", 0, file.read_bytes())
    assert content.has(digest)
    tree = content.tree("0" * 16, [("textures/comb.png", digest)])
    assert (tree / "textures" / "comb.png").read_bytes() == file.read_bytes()

    for bad in ("../out", "/etc/passwd", "a/../../out"):
        with pytest.raises(WorkerError, match="leads out of its folder"):
            content.tree("0" * 16, [(bad, digest)])

    for bad in ("../x", "5-zz", ""):
        with pytest.raises(WorkerError, match="is no digest"):
            content.has(bad)


def test_what_was_used_longest_ago_makes_room_with_its_tree(tmp_path: Path) -> None:
    """Its other name in a tree goes too, else its room would stay taken; what is kept can be put in
    a tree again."""
    content = Content(tmp_path / "kept", most_bytes=2500)
    files = []

    for number in range(3):
        file = tmp_path / f"{number}.bin"
        file.write_bytes(bytes([number]) * 1000)
        files.append(digest_of(file))
        assert content.add_piece(files[-1], "s", 0, file.read_bytes())
        content.tree(f"{number:016x}", [("a.bin", files[-1])])
        os.utime(content.path(files[-1]), (number + 1, number + 1))

        if number == 1:
            tree = content.folder / "trees" / f"{0:016x}"
            assert tree.is_dir()

    assert [content.has(digest) for digest in files] == [False, True, True]
    assert not tree.exists()
    assert (content.tree(f"{2:016x}", [("a.bin", files[2])]) / "a.bin").is_file()


def test_an_order_that_is_stopped_before_it_begins_is_not_done(tmp_path: Path) -> None:
    agent = Agent("one", Content(tmp_path / "kept"))
    job = REQUESTS.dump_json(WarmUpJob()).decode()
    order = Order(session="s", number=1, study="a.study", renderer=KNOWN.worker, job=job)
    agent.halt("s", 1, at_once=False)
    answer, made = agent.do(order, lambda progress: None)
    assert (json.loads(answer.outcome)["kind"], made) == ("stopped", {})
    again, _ = agent.do(order.model_copy(update={"number": 2}), lambda progress: None)
    assert json.loads(again.outcome)["kind"] == "ready"
    agent.end()


def test_parts_of_a_computer_are_timed_beside_each_other_and_not_with_the_whole(
    tmp_path: Path,
) -> None:
    def lease(*processors: int) -> Lease:
        return Lease(tmp_path / "lease", frozenset(processors))

    study = Path("a.study")
    left = lease(0)
    right = lease(1)
    both = lease(0, 1)
    whole = lease()
    assert (left.take(study), right.take(study)) == ("", "")
    assert both.take(study) == f"a.study (process {os.getpid()})"
    assert whole.take(study) != ""
    left.release()
    assert both.take(study) != ""
    right.release()
    assert both.take(study) == ""
    assert whole.take(study) != ""
    both.release()
    assert whole.take(study) == ""
    assert left.take(study) != ""
    whole.release()


def test_with_keys_only_those_who_have_them_get_in(
    tmp_path: Path, open_study: Open, capsys: pytest.CaptureFixture
) -> None:
    keys = tmp_path / "keys"
    others = tmp_path / "others"
    assert run(["machines", "keys", str(keys)]) == 0
    assert run(["machines", "keys", str(others)]) == 0
    assert run(["machines", "keys", str(keys)]) == 2
    assert "holds keys already" in capsys.readouterr().err
    (tmp_path / "meeting").mkdir()

    with Meeting(tmp_path / "meeting", keys) as meeting:
        meeting.join("left")
        assert run(["machines", "list", meeting.address, "--keys", str(keys), "--json"]) == 0
        assert [one["name"] for one in json.loads(capsys.readouterr().out)["machines"]] == ["left"]
        assert run(["machines", "list", meeting.address, "--keys", str(others)]) == 1
        assert "no machines can be reached there" in capsys.readouterr().err
        driver = open_study(repeats=2)
        assert driver.run_here(Sweeping(), Fleet(meeting.address, keys)).finished
        assert {run.host for run in driver.state.results.runs} == {"left"}
        assert run(["machines", "stop", meeting.address, "--keys", str(keys)]) == 0

    (keys / engine.KEY).chmod(0o644)
    with pytest.raises(UsageError, match="others may read it"):
        Fleet("tls://127.0.0.1:1", keys)


def test_a_machine_writes_nothing_that_was_not_asked_for(tmp_path: Path) -> None:
    """S4: what a machine says it made names files of this computer."""
    fleet = Fleet("127.0.0.1:1")
    link = RemoteLink(fleet, "tcp://127.0.0.1:2", "odd")
    wanted = str(tmp_path / "picture.exr")
    private = tmp_path / "private"
    told = link._kept(Ready(), {wanted: b"a", str(private): b"b"}, [wanted])
    assert isinstance(told, Void)
    assert "a file that was not asked for" in told.reason
    assert list(tmp_path.iterdir()) == []
    fleet.close()


def test_keys_that_have_ended_are_said_to(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture
) -> None:
    """S13: machines would only be silent after a year."""
    keys = tmp_path / "keys"
    assert run(["machines", "keys", str(keys)]) == 0
    ends = engine.keys_end(keys)
    assert f"they end on {ends:%Y-%m-%d}" in capsys.readouterr().err
    monkeypatch.setattr(
        engine, "datetime", SimpleNamespace(now=lambda zone: ends + timedelta(days=1))
    )
    with pytest.raises(UsageError, match=f"ended on {ends:%Y-%m-%d}; make new keys"):
        engine.security(keys)


def test_the_engine_says_nothing_on_the_terminal() -> None:
    """S13: its own lines go to the log, also those of its loggers with a level of their own."""
    engine.prepare()
    names = [name for name in logging.root.manager.loggerDict if name.startswith("distributed")]
    assert len(names) > 3

    for name in names:
        logger = logging.getLogger(name)
        assert not logger.isEnabledFor(logging.ERROR), name
        assert not logger.propagate
        assert not any(type(handler) is logging.StreamHandler for handler in logger.handlers)


def test_a_search_and_frames_are_done_on_machines(meeting: Meeting, open_study: Open) -> None:
    meeting.join("left", processors="0")
    meeting.join("right", processors="1")
    driver = open_study()
    ended = measured(driver, meeting, policy=Searching(driver.record))
    assert ended.finished
    assert "combination" in ended.words
    (kind,) = kinds_of(driver.state)
    assert kind.results.pick() is not None
    assert len(driver.state.results.chosen) >= 1
    plan = FramePlan(0, 9, 3)
    assert measured(driver, meeting, policy=Framing(plan, (driver.state.plan.base,))).finished
    (machine,) = machines_of_frames(driver.state, plan)
    assert driver.snapshot.seen_from(machine).state.machine == machine


def test_the_command_line_measures_on_machines(
    meeting: Meeting, open_study: Open, capsys: pytest.CaptureFixture, tmp_path: Path
) -> None:
    meeting.join("one", processors="0")
    driver = open_study(repeats=2)
    path = str(driver.path)
    driver.close()
    assert run(["run", path, "--on", meeting.address, "--json"]) == 0
    captured = capsys.readouterr()
    assert "one has joined" in captured.err
    assert json.loads(captured.out)["pick"] is not None
    assert run(["pick", path]) == 0
    assert "times are those of" in capsys.readouterr().err
    assert run(["pick", path, "--machine", "nobody's"]) == 2
    assert "--machine nobody's: is none of those known here" in capsys.readouterr().err
    assert run(["run", path, "--frontier"]) == 2
    assert "--frontier: is for machines that are named by --on" in capsys.readouterr().err
    assert run(["machines", "list", meeting.address]) == 0
    assert "one" in capsys.readouterr().out


@pytest.fixture
def cable() -> Iterator[Callable[[bool], None]]:
    """Another network on this computer, and a cable to it that can be pulled and put back."""
    name = "swiftsamplenet"

    def ip(*words: str) -> None:
        subprocess.run(["ip", *words], check=True, capture_output=True)

    if shutil.which("ip") is None or os.geteuid() != 0:
        pytest.skip("a network of its own needs `ip` and the rights for it")

    try:
        ip("netns", "add", name)
    except subprocess.CalledProcessError:
        pytest.skip("no network namespaces here")

    try:
        ip("link", "add", "swifthere", "type", "veth", "peer", "name", "swiftthere", "netns", name)
        ip("addr", "add", f"{HERE}/24", "dev", "swifthere")
        ip("link", "set", "swifthere", "up")
        for words in (
            ("addr", "add", f"{THERE}/24", "dev", "swiftthere"),
            ("link", "set", "swiftthere", "up"),
        ):
            ip("-n", name, *words)

        ip("-n", name, "link", "set", "lo", "up")
        yield lambda plugged: ip("link", "set", "swifthere", "up" if plugged else "down")
    finally:
        subprocess.run(["ip", "link", "del", "swifthere"], capture_output=True)
        subprocess.run(["ip", "netns", "del", name], capture_output=True)


def _listening(pid: int) -> list[tuple[str, int]]:
    """Where a process and all that it started listen."""
    root = psutil.Process(pid)
    sockets = [
        one
        for process in (root, *root.children(recursive=True))
        for one in process.net_connections("tcp")
    ]
    return sorted(
        {(one.laddr.ip, one.laddr.port) for one in sockets if one.status == psutil.CONN_LISTEN}
    )


def _answers(place: tuple[str, int], netns: str) -> bool:
    """Whether somebody in another network can connect there."""
    code = f"import socket; socket.create_connection({place!r}, 2).close()"
    command = ["ip", "netns", "exec", netns, sys.executable, "-c", code]
    return subprocess.run(command, capture_output=True).returncode == 0


def test_nobody_in_the_network_reaches_machines_that_meet_on_this_computer(
    cable: Callable[[bool], None], tmp_path: Path
) -> None:
    (tmp_path / "meeting").mkdir()
    with Meeting(tmp_path / "meeting") as meeting:
        places = _listening(meeting.join("one"))
        assert len(places) >= 2, "it listens for jobs, and has pages"
        assert {address for address, _ in places} == {"127.0.0.1"}
        assert not any(
            _answers((HERE, port), "swiftsamplenet") for _, port in [*places, ("", meeting.port)]
        )


def test_beyond_this_computer_the_pages_stay_here_and_jobs_come_by_one_address(
    cable: Callable[[bool], None], tmp_path: Path
) -> None:
    (tmp_path / "meeting").mkdir()
    with Meeting(tmp_path / "meeting", host=HERE) as meeting:
        places = _listening(meeting.join("one"))
        assert {address for address, _ in places} == {HERE, "127.0.0.1"}
        reached = [place for place in places if _answers((HERE, place[1]), "swiftsamplenet")]
        assert [address for address, _ in reached] == [HERE]


def test_a_network_that_is_cut_and_comes_back(
    cable: Callable[[bool], None], tmp_path: Path, open_study: Open, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The machine behind it is gone for a while: its render is made elsewhere, and it joins again
    by itself. The meeting place looks every four seconds for those who have not been heard for
    four, so it is gone for more than eight."""
    monkeypatch.setenv("DASK_DISTRIBUTED__SCHEDULER__WORKER_TTL", "4s")
    (tmp_path / "meeting").mkdir()

    with Meeting(tmp_path / "meeting", host=HERE) as meeting:
        meeting.join("near", processors="0")
        meeting.join("far", processors="1", netns="swiftsamplenet")
        driver = open_study(repeats=14)
        cut = []

        def pull(notice: Notice) -> None:
            if (
                isinstance(notice, StepStarted)
                and isinstance(notice.step, RunStep)
                and notice.host == "far"
                and not cut
            ):
                cut.append(notice.step)
                cable(False)
                threading.Timer(12.0, cable, [True]).start()
            elif cut and words_of(driver).count("far has joined") < 2:
                time.sleep(0.3)  # so that what is left lasts until it is back

        ended = measured(driver, meeting, pull, unprotected=True)
        assert ended.finished
        assert cut
        said = words_of(driver)
        assert "far left" in said
        assert said.count("far has joined") == 2, said
        assert all(
            trial.is_on_map for kind in kinds_of(driver.state) for trial in kind.results.trials
        )
