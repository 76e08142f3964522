#!/usr/bin/env bash
# Runs the tests in this folder inside a real kernel, in an emulator.
# With --prepare: only makes the machine ready.
# KERNEL_LAB_SCRIPT: the script that boots it. KERNEL_LAB: its scratch folder, about 600 MB.
set -euo pipefail
cd "$(dirname "$0")/../.."
lab=${KERNEL_LAB_SCRIPT:-../shared/kernel/lab.sh}
export KERNEL_LAB=${KERNEL_LAB:-${TMPDIR:-/tmp}/kernel-lab}
for missing in "$([ -e "$lab" ] || echo "there is no $lab here")" \
  "$([ "$(id -u)" = 0 ] || echo "only root can build the emulated machine")"; do
  if [ -n "$missing" ]; then
    echo "tests/kernel: not run, $missing"
    exit 0
  fi
done
# What the tests need inside, once for each scratch folder.
if [ ! -e "$KERNEL_LAB/site/pyarrow" ]; then
  bash "$lab" pip pytest click pydantic numpy pandas pyarrow psutil
fi
[ "${1:-}" != --prepare ] || exit 0
exec bash "$lab" run -t 540 -- sh -c \
  'PYTHONDONTWRITEBYTECODE=1 PYTHONPATH=/host/src:$PYTHONPATH python3 -m pytest -p no:cacheprovider tests/kernel'
