import numpy as np
import pandas as pd
import pytest

import gelassen
import gelassen.core as core
from gelassen.core.recording.channels import parse_channel


def test_the_front_door_is_what_the_documents_say():
    assert {"read_log", "open_study", "GelassenError", "Recording"} <= set(gelassen.__all__)
    assert {
        "steady_state", "find_throttling", "find_steps", "sustainable_power", "compare_setups",
    } <= set(core.__all__)  # fmt: skip
    for module in (gelassen, core):
        for name in module.__all__:
            assert getattr(module, name) is not None
    assert issubclass(core.InputError, ValueError)
    assert issubclass(core.InputError, gelassen.GelassenError)


def test_results_are_frozen_readable_and_plain():
    t = np.arange(900.0)
    answer = core.steady_state(t, 60 - 30 * np.exp(-t / 90))
    with pytest.raises(AttributeError):
        answer.value = 3.0
    throttling = core.find_throttling(t, temperature_c=60 - 30 * np.exp(-t / 90), limit_c=95)
    assert throttling.thermal.dtype == bool
    assert throttling.thermal.shape == t.shape
    assert isinstance(throttling.to_dict()["thermal"], list)
    runs = pd.DataFrame({"setup": ["a", "b"], "value": [1.0, 2.0]})
    plain = core.compare_setups(runs).to_dict()
    assert plain["differences"][0]["low"] is None
    capacity = core.sustainable_power([45, 65, 95, 125], [24, 34.5, 50.3, 66.3], limit_c=95)
    assert capacity.to_dict()["power_w"] == pytest.approx(capacity.power_w)
    for result in (answer, throttling, capacity, core.compare_setups(runs)):
        assert len(str(result)) > 20


@pytest.mark.parametrize(
    "name", ["cpu.core3.temp_c", "load.work.errors_count", "load.work.rate_per_s"]
)
def test_channel_names_come_apart_and_together(name):
    assert str(parse_channel(name)) == name


@pytest.mark.parametrize(
    "name", ["cpu.temp_c", "cpu.Core3.temp_c", "cpu.core3.temp", "a.b.c.d_c", ""]
)
def test_other_names_are_refused(name):
    with pytest.raises(core.InputError):
        parse_channel(name)
