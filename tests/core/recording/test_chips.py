"""Which channels belong to which processor or card."""

import numpy as np
import pandas as pd
import pytest

from gelassen.core.recording.channel_words import channel_words
from gelassen.core.recording.chips import chip_of, of_chip, whole_chips
from gelassen.core.recording.part_series import part_series


@pytest.mark.parametrize(
    ("channel", "chip", "words"),
    [
        ("gpu.package2.temp_c", "2", "graphics card 2"),
        ("gpu.hotspot2.temp_c", "2", "graphics card 2 hot spot"),
        ("gpu.package_0300.temp_c", "0300", "graphics card 0300"),
        ("gpu.memory_junction.temp_c", "", "graphics memory junction"),
        ("cpu.socket2_core4.temp_c", "2", "processor 2 core 4"),
        ("cpu.core3.temp_c", "", "core 3"),
        ("cpu.package.temp_c", "", "processor"),
    ],
)
def test_a_number_names_a_chip_and_not_a_core_or_a_sensor(channel, chip, words):
    assert chip_of(channel) == chip
    assert channel_words(channel) == words


def test_a_chip_never_takes_the_readings_of_another_one():
    power = ["gpu.package1.power_w", "gpu.package2.power_w"]
    assert of_chip(power, "2") == power[1:]
    assert of_chip(power[:1], "2") == []
    assert of_chip(["gpu.package.power_w"], "2") == ["gpu.package.power_w"]  # it does not say which
    frame = pd.DataFrame([[50.0, 50.0]], columns=["gpu.vrm.temp_c", "gpu.package1.temp_c"])
    assert whole_chips(frame, "gpu", "temp_c") == ["gpu.package1.temp_c"]
    held = {"gpu.package1.held_by_heat_flag": [0.0, 1.0], "gpu.package2.temp_c": [60.0, 61.0]}
    part = part_series(pd.DataFrame(held), "gpu.package2.temp_c", np.array([60.0, 61.0]))
    assert part.heat_flag is None
