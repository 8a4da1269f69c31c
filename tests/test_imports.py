"""The dependency rule: layers point downwards, and the core knows no window."""

import subprocess
import sys
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

import grimp
import pytest

ROOT = Path(__file__).resolve().parent.parent


def test_layers_hold() -> None:
    done = subprocess.run(
        [str(Path(sys.executable).parent / "lint-imports"), "--no-cache"],
        cwd=ROOT,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stdout


def test_no_module_leads_back_to_itself() -> None:
    """Imports in functions and for types alone count like the others."""
    graph = grimp.build_graph("swift_sample", cache_dir=None)
    imported = {module: graph.find_modules_directly_imported_by(module) for module in graph.modules}

    try:
        TopologicalSorter(imported).prepare()
    except CycleError as error:
        pytest.fail(" -> ".join(error.args[1]))


def test_core_and_command_line_import_without_qt() -> None:
    program = (
        "import sys; sys.modules['PyQt6'] = None; sys.modules['pyqtgraph'] = None\n"
        "import swift_sample.cli, swift_sample.core.study.measuring.driver, "
        "swift_sample.core.worker.process\n"
        "import swift_sample.core.renderers.builtin.pipeline, swift_sample.core.measure.compare"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
