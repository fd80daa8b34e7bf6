# Everything a script needs before it can start, from a bare Debian with Python. Sourced, not run.
# Usage: source scripts/setup.sh; setup_python [dev]; setup_papers; setup_postgres; setup_browser

say() { echo "· $*"; }
lack() { echo "✗ $*" >&2; exit 1; }

root=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
cd "$root"
# Modules are kept compiled, whatever the machine says elsewhere: they load in less than half of the time.
unset PYTHONDONTWRITEBYTECODE
export UV_PYTHON_DOWNLOADS=never PIP_DISABLE_PIP_VERSION_CHECK=1
uv_version=0.13.9

debian_install() { # what it is for, then the packages
  local what=$1; shift
  [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null || lack "$what is missing. As root: apt-get install $*"
  say "Installing $what"
  export DEBIAN_FRONTEND=noninteractive
  apt-get install -y -qq --no-install-recommends "$@" >/dev/null 2>&1 ||
    { apt-get update -qq && apt-get install -y -qq --no-install-recommends "$@" >/dev/null; } ||
    lack "$what could not be installed: apt-get install $*"
}

setup_python() {
  local lock=requirements${1:+-$1}.txt
  command -v python3 >/dev/null || debian_install "Python" python3 python3-venv
  python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))' || lack "Python 3.11 or newer is needed; this is $(python3 --version)."
  python3 -c 'import ensurepip' 2>/dev/null || debian_install "Python's venv" python3-venv
  # Who has the tools of development keeps them, whichever script runs.
  [ -f .venv/setup-requirements-dev.txt ] && lock=requirements-dev.txt
  local mark
  mark=$(sha256sum <"$lock")
  if [ "$(cat ".venv/setup-$lock" 2>/dev/null)" != "$mark" ]; then
    say "Setting up Python packages"
    [ -x .venv/bin/python ] || python3 -m venv .venv
    [ -x .tools/bin/uv ] || { python3 -m venv .tools && .tools/bin/pip install -q "uv==$uv_version" >/dev/null 2>&1; } || true
    # The system's certificates, since a company network may have its own; pip where uv is not to be had.
    if ! { [ -x .tools/bin/uv ] && .tools/bin/uv pip sync -q --system-certs --require-hashes --python .venv/bin/python "$lock" &&
      .tools/bin/uv pip install -q --system-certs --no-deps --python .venv/bin/python -e .; }; then
      say "uv could not do it; pip takes longer"
      .venv/bin/python -m ensurepip -q 2>/dev/null || true
      .venv/bin/python -m pip install -q --require-hashes -r "$lock" || lack "The Python packages could not be installed; see above."
      .venv/bin/python -m pip install -q --no-deps -e .
    fi
    echo "$mark" >".venv/setup-$lock"
  fi
  export PATH="$root/.venv/bin:$PATH"
}

setup_papers() { # what turns papers into PDFs
  ldconfig -p 2>/dev/null | grep -q libpangoft2-1.0 && return
  if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
    debian_install "Pango, for PDFs" libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0
  else
    say "Pango is missing, so papers cannot be made as PDFs. As root: apt-get install libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0"
  fi
}

setup_postgres() {
  ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || command -v initdb >/dev/null || debian_install "PostgreSQL" postgresql
}

setup_browser() {
  command -v chromium >/dev/null && command -v chromedriver >/dev/null || debian_install "Chromium with its driver" chromium chromium-driver
  # Without windows of its own it takes a third less; Chromium itself does as well.
  command -v chromium-headless-shell >/dev/null || { [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null &&
    DEBIAN_FRONTEND=noninteractive timeout 120 apt-get install -y -qq --no-remove --no-install-recommends chromium-headless-shell >/dev/null 2>&1; } ||
    say "The browser tests take longer without chromium-headless-shell. As root: apt-get install chromium-headless-shell"
}
