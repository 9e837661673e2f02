# Sourced by ./quince and ./check: makes .venv, installs exact versions, brings system libraries, warms the kernels.
# What is done already is not done again; a change of the lock files or of the kernels does it anew.

prepare_root=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
venv="$prepare_root/.venv"

say() { printf '%s\n' "$*" >&2; }

# name of a shared library or a program -> the Debian package that brings it
runtime_needs="libEGL.so.1=libegl1 libGL.so.1=libgl1 libgallium=libgl1-mesa-dri
    libxkbcommon.so.0=libxkbcommon0 libxkbcommon-x11.so.0=libxkbcommon-x11-0 libdbus-1.so.3=libdbus-1-3
    libfontconfig.so.1=libfontconfig1 libglib-2.0.so.0=libglib2.0-0 libxcb-cursor.so.0=libxcb-cursor0
    libxcb-icccm.so.4=libxcb-icccm4 libxcb-image.so.0=libxcb-image0 libxcb-keysyms.so.1=libxcb-keysyms1
    libxcb-randr.so.0=libxcb-randr0 libxcb-render-util.so.0=libxcb-render-util0 libxcb-shape.so.0=libxcb-shape0
    libxcb-xinerama.so.0=libxcb-xinerama0 libxcb-xkb.so.1=libxcb-xkb1"
check_needs="Xvfb=xvfb xdotool=xdotool"

missing_packages() {
    local libraries need name package
    libraries=$(ldconfig -p 2>/dev/null || /sbin/ldconfig -p)
    for need in "$@"; do
        name=${need%%=*} package=${need#*=}
        case $name in
            lib*) [[ $libraries == *"$name"* ]] || dri_driver_found "$name" || printf '%s ' "$package" ;;
            *) command -v "$name" >/dev/null || printf '%s ' "$package" ;;
        esac
    done
}

# Mesa keeps its drivers outside the linker's list.
dri_driver_found() {
    [[ $1 == libgallium ]] && compgen -G "/usr/lib/*/dri/swrast_dri.so" >/dev/null
}

install_packages() {
    [[ $# -gt 0 ]] || return 0
    local run=()
    if ! command -v apt-get >/dev/null; then
        say "These system libraries are missing; install them with this machine's package manager: $*"
        return 0
    fi
    if [[ $(id -u) != 0 ]]; then
        if ! sudo -n true 2>/dev/null; then
            say "Some system libraries are missing. Install them with this command, then start again:"
            say "  sudo apt-get update && sudo apt-get install -y $*"
            exit 1
        fi
        run=(sudo -n)
    fi
    say "Installing system libraries: $*"
    "${run[@]}" apt-get update -qq
    DEBIAN_FRONTEND=noninteractive "${run[@]}" apt-get install -y -qq --no-install-recommends "$@" >/dev/null
}

find_python() {
    local candidate
    for candidate in python3.13 python3.12 python3.11 python3; do
        if "$candidate" -c 'import sys; sys.exit(not (3, 11) <= sys.version_info[:2] <= (3, 13))' 2>/dev/null; then
            command -v "$candidate"
            return
        fi
    done
    say "Rubber Quince needs Python 3.11, 3.12 or 3.13; none was found."
    exit 1
}

make_venv() {
    local python=$1
    "$python" -c 'import ensurepip' 2>/dev/null || install_packages python3-venv
    say "Making .venv"
    "$python" -m venv --clear "$venv"
}

# install_python LOCKFILE: exact versions, and the package itself from its source
install_python() {
    local lock=$1 want
    want="$(sha256sum "$prepare_root/$lock" "$prepare_root/pyproject.toml" | sha256sum | cut -c1-16) $prepare_root"
    [[ -x $venv/bin/python && $(cat "$venv/installed-$lock" 2>/dev/null) == "$want" ]] && return
    [[ -x $venv/bin/python ]] || make_venv "$(find_python)"
    say "Installing Python packages from $lock"
    "$venv/bin/pip" install --quiet --disable-pip-version-check -r "$prepare_root/$lock" 2>&1 | { grep -v "^WARNING: Location" || true; } >&2
    "$venv/bin/pip" install --quiet --disable-pip-version-check --no-deps -e "$prepare_root" 2>&1 | { grep -v "^WARNING: Location" || true; } >&2
    printf '%s' "$want" > "$venv/installed-$lock"
}

# a checker of GLB files for the tests; they do without it where node is missing
install_validator() {
    local version=2.0.0-dev.3.10
    [[ $(cat "$venv/installed-validator" 2>/dev/null) == "$version" ]] && return
    command -v npm >/dev/null || return 0
    npm install --silent --no-fund --no-audit --prefix "$venv" "gltf-validator@$version" >/dev/null 2>&1 \
        && printf '%s' "$version" > "$venv/installed-validator" \
        || say "gltf-validator could not be installed; the test that uses it will be skipped."
}

# compile every kernel once, so that the first start is quick
warm_kernels() {
    local want
    want=$(cat "$prepare_root"/src/rubberquince/{kernels,view,solver}/*.py | sha256sum | cut -c1-16)
    [[ $(cat "$venv/warmed" 2>/dev/null) == "$want" ]] && return
    "$venv/bin/python" -m rubberquince.tools.warm >&2
    printf '%s' "$want" > "$venv/warmed"
}
