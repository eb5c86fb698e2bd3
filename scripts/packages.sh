# What Kasane needs of Debian 12, and how to get it. Sourced by the other scripts.
# shellcheck shell=bash

KASANE_PACKAGES="build-essential cmake ninja-build pkg-config libeigen3-dev libfmt-dev libspdlog-dev libcli11-dev
nlohmann-json3-dev libcfitsio-dev zlib1g-dev libpng-dev libtbb-dev libnanoflann-dev libhwy-dev libsqlitecpp-dev libsqlite3-dev
libtiff-dev libjpeg62-turbo-dev liblcms2-dev libraw-dev libexif-dev
libtomlplusplus-dev libkissfft-dev libxxhash-dev libhowardhinnant-date-dev libcpp-httplib-dev libssl-dev libjs-chart.js"
KASANE_TEST_PACKAGES="catch2 desktop-file-utils groff-base libbenchmark-dev chromium chromium-driver fitsverify libtiff-tools libimage-exiftool-perl pngcheck"
KASANE_BENCH_PACKAGES="libopencv-imgproc-dev" # to compare with; the benchmark does without
KASANE_FUZZ_PACKAGES="clang libclang-rt-14-dev"

# install_packages NAME...: installs those that are missing, as root or through sudo; says exactly what is missing where
# that is not possible.
install_packages() {
    local missing=() name
    for name in "$@"; do
        dpkg-query -W -f='${Status}' "$name" 2>/dev/null | grep -q 'ok installed' || missing+=("$name")
    done
    [ ${#missing[@]} -eq 0 ] && return 0
    echo "Installing: ${missing[*]}"
    local as_root=()
    if [ "$(id -u)" -ne 0 ]; then
        if ! command -v sudo >/dev/null 2>&1; then
            echo "These Debian packages are missing, and neither root nor sudo is at hand to install them:" >&2
            echo "  ${missing[*]}" >&2
            echo "Ask an administrator to run: apt-get install ${missing[*]}" >&2
            return 1
        fi
        as_root=(sudo)
    fi
    if ! { "${as_root[@]}" apt-get update -q &&
        "${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends "${missing[@]}"; } >/tmp/kasane-install.$$ 2>&1; then
        tail -5 "/tmp/kasane-install.$$" >&2
        echo "These Debian packages could not be installed: ${missing[*]}" >&2
        return 1
    fi
    rm -f "/tmp/kasane-install.$$"
}
