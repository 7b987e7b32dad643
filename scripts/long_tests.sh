#!/usr/bin/env bash
# The tests that CI only samples, in full (as root, hours): every kill point, every fault, long attacks, a million entries, fuzzing.
#   scripts/long_tests.sh [PYTHON] [SECONDS of fuzzing each reader]
set -euo pipefail
cd "$(dirname "$0")/.."
python=${1:-.venv/bin/python}
seconds=${2:-3600}
export KLEFF_ALL_KILLS=1 KLEFF_ALL_FAULTS=1 KLEFF_ALL_PRODUCTS=1 KLEFF_HOSTILE_SECONDS=600 KLEFF_LARGE=1000000

"$python" -m pytest -q tests/test_kills.py tests/test_needs.py tests/test_registered.py tests/test_windows_whole.py tests/test_locked.py tests/test_room.py tests/test_linux.py tests/test_faults.py tests/test_hostile.py tests/test_places.py tests/test_restore.py tests/test_restore_again.py \
  tests/test_rescue.py tests/test_packages_exact.py tests/test_real_services.py tests/test_real_products.py tests/test_real_tools.py \
  tests/test_faults_booted.py
for target in procedure bag archive restore journal lab reg; do
  "$python" scripts/fuzz.py "$target" --seconds "$seconds"
done
