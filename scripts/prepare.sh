# SPDX-License-Identifier: MIT
# Sourced by ./check and ./demo: the Debian packages that the build needs, and the build itself. Does nothing where nothing is missing.

packages="cmake g++ ninja-build pkg-config libeigen3-dev libfmt-dev libfftw3-dev libsndfile1-dev libcli11-dev nlohmann-json3-dev libtomlplusplus-dev
  libebur128-dev liblilv-dev lv2-dev ladspa-sdk libjack-jackd2-dev jackd2 gnuplot-nox fonts-dejavu-core libgtest-dev libgmock-dev nettle-dev libsoci-dev libcmark-dev libncurses-dev"

install_packages() {
  missing=""
  for package in $packages; do
    dpkg-query -W -f '${Status}' "$package" 2>/dev/null | grep -q 'install ok installed' || missing="$missing $package"
  done
  [ -n "$missing" ] || return 0
  echo "Installing:$missing"
  as_root=""
  if [ "$(id -u)" != 0 ]; then
    command -v sudo >/dev/null || { echo "$0: installing packages needs root; install them yourself or run as root" >&2; exit 1; }
    as_root=sudo
  fi
  $as_root apt-get update -qq
  DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends $missing >/dev/null
}

# configure PRESET: only when it was not done, so that a second run builds nothing.
configure() {
  [ -f "build/$1/build.ninja" ] || cmake --preset "$1" >"build-$1.log" 2>&1 || { cat "build-$1.log" >&2; exit 1; }
  rm -f "build-$1.log"
}
