"""Trees as the kernel lays them out, made for a test."""

import os


def write(root, path, text):
    file = root / path
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(f"{text}\n")
    return file


def device(root, number, driver, address, files):
    """Make a hwmon device: a class link into the tree of devices."""
    home = root / "sys/devices" / address
    for name, text in {"name": driver, **files}.items():
        write(home, f"hwmon/hwmon{number}/{name}", text)
    folder = home / f"hwmon/hwmon{number}"
    (folder / "device").symlink_to("../..")
    link = root / "sys/class/hwmon" / f"hwmon{number}"
    link.parent.mkdir(parents=True, exist_ok=True)
    link.symlink_to(os.path.relpath(folder, link.parent))
    return folder


ZONE = "sys/class/powercap/intel-rapl:0"
LIMIT = f"{ZONE}/constraint_0_power_limit_uw"


def settable_tree(root):
    """Make a machine with every setting: power limits, a fan, clocks, boost, processors."""
    for name, text in {
        "name": "package-0", "enabled": 0, "energy_uj": 1, "max_energy_range_uj": 9,
        "constraint_0_name": "long_term", "constraint_0_power_limit_uw": 65000000,
        "constraint_1_name": "short_term", "constraint_1_power_limit_uw": 90000000,
    }.items():  # fmt: skip
        write(root, f"{ZONE}/{name}", text)
    device(root, 1, "nct7802", "i2c-0/0-0028", {"pwm1": 77, "pwm1_enable": 2, "fan1_input": 900})
    cpu = "sys/devices/system/cpu"
    for k in range(4):
        policy = f"{cpu}/cpufreq/policy{k}"
        for name, khz in {
            "scaling_max_freq": 4000000, "cpuinfo_max_freq": 4000000, "cpuinfo_min_freq": 800000,
        }.items():  # fmt: skip
            write(root, f"{policy}/{name}", khz)
        (root / f"{cpu}/cpu{k}").mkdir(parents=True)
        if k:
            write(root, f"{cpu}/cpu{k}/online", 1)
    write(root, f"{cpu}/intel_pstate/no_turbo", 0)
    return root
