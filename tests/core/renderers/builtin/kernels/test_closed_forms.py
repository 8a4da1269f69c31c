from dataclasses import replace

import pytest

from tests.core.renderers.builtin.kernels.closed_forms import Case, all_cases


@pytest.mark.parametrize("pattern", ["even", "blue noise"])
@pytest.mark.parametrize("case", all_cases(), ids=lambda case: case.name)
def test_render_agrees_with_closed_form(case: Case, pattern: str) -> None:
    found = replace(case, settings={**case.settings, "samples__pattern": pattern}).measure()
    assert found.measured == pytest.approx(case.expected, abs=found.tolerance)
