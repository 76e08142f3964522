"""A log of one's own, analysed with the pure core. The log is made up here."""

import numpy as np

from gelassen.core import find_steps, find_throttling, steady_state, sustainable_power

rng = np.random.default_rng(1)
time_s = np.arange(1500.0)
room_c = 21.5 + 0.3 * np.sin(time_s / 700)
heating = np.where(time_s < 60, 0.0, 1 - np.exp(-np.maximum(time_s - 60, 0) / 160))
chip_c = np.round(room_c + 6 + 46 * heating + 0.3 * rng.standard_normal(time_s.size))

print("made-up sample data")
print(steady_state(time_s, chip_c, reference_c=room_c))
print(find_throttling(time_s, temperature_c=chip_c, limit_c=95))
print(find_steps(time_s, chip_c - room_c) or "nothing changed in mid-run")
print(sustainable_power([45, 65, 95, 125], [24.1, 34.6, 50.2, 66.4], limit_c=95, ambient_c=25))
