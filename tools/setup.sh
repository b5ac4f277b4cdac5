#!/usr/bin/env bash
# Sets everything up: Debian packages (as root), then .venv with the Python packages. Safe to run again.
# "setup.sh all" brings the compilers too that only the long proofs and their own users need (1.5 GB): RISC-V's and Rust's.
set -eu
cd "$(dirname "$0")/.."

packages="gcc libc6-dev make libegl1 libgl1 libxkbcommon0 libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 libglib2.0-0
 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-render-util0 libxcb-shape0 libxcb-xinerama0
 fonts-dejavu-core xvfb gcc-arm-none-eabi libnewlib-arm-none-eabi qemu-system-arm cppcheck
 g++ iverilog verilator ghdl yosys nextpnr-ice40 fpga-icestorm"

if [ "${1:-}" = all ]; then
    packages="$packages gcc-riscv64-unknown-elf picolibc-riscv64-unknown-elf qemu-system-misc"
    command -v rustc >/dev/null 2>&1 || packages="$packages rustc"
fi

missing=""
if command -v dpkg-query >/dev/null 2>&1; then
    for package in $packages; do
        dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing="$missing $package"
    done
fi

python=""
for candidate in "${PYTHON:-python3.11}" python3.11 python3.12 python3.13 python3; do
    if command -v "$candidate" >/dev/null 2>&1 &&
        "$candidate" -c 'import sys; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
        python="$candidate"
        break
    fi
done
if [ -z "$python" ]; then
    missing="$missing python3 python3-venv"
elif ! "$python" -c 'import ensurepip, venv' >/dev/null 2>&1; then
    missing="$missing python3-venv"
fi

bring() {
    apt-get update -q >/dev/null || true
    # shellcheck disable=SC2086
    DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends $missing >/dev/null ||
        echo "some packages could not be installed; what doesn't need them still works"
}

bringing=""
if [ -n "$missing" ]; then
    if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
        echo "installing$missing"
        case "$missing" in
            *python3-venv*) bring ;; # what follows needs it
            *) bring & bringing=$! ;; # half a minute, beside what follows
        esac
    else
        echo "not on this machine:$missing"
        echo "to install: sudo apt-get install$missing"
        echo "what doesn't need them still works"
    fi
    [ -n "$python" ] || python=$(command -v python3 || true)
fi
if [ -z "$python" ]; then
    echo "Python 3.11 or newer is needed" >&2
    exit 1
fi

stamp=.venv/.ready
if [ ! -x .venv/bin/python ] || [ ! -f "$stamp" ] || [ pyproject.toml -nt "$stamp" ]; then
    echo "setting up .venv"
    "$python" -m venv .venv
    .venv/bin/python -m pip install --quiet --disable-pip-version-check --no-compile -e '.[dev]' 2> .venv/pip.log || {
        cat .venv/pip.log >&2
        echo "the Python packages could not be installed: see above" >&2
        exit 1
    }
    # So that the first command starts as fast as any other, even where Python is told to write nothing: ours, and of the packages
    # what isn't their own tests. On all processors, which pip wouldn't do.
    .venv/bin/python -m compileall -q -j 0 -x '/(tests?|testing|pip|setuptools|mypy)/' combe .venv/lib >/dev/null 2>&1 || true
    touch "$stamp"
fi
[ -z "$bringing" ] || wait "$bringing"
