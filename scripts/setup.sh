# Shared by scripts/demo and scripts/test: installs what is missing, each step only when it is. Sourced, not run.

# Compiled modules are kept, whatever the surroundings say: without them every start compiles all libraries again.
export PYTHONDONTWRITEBYTECODE=

say() { printf '  %s\n' "$*"; }
stop() { printf 'Flinch cannot start: %s\n' "$*" >&2; exit 1; }
sums() { find "$@" -type f -print0 | sort -z | xargs -0 sha256sum | sha256sum | cut -c1-64; }

# What a step's tools say is kept here, the last run's, for whom it failed.
logs=.flinch/setup
log_of() { mkdir -p "$logs" && printf '%s/%s.log' "$PWD/$logs" "$1"; }

# Steps that know nothing of each other, side by side; the first that stops, and Ctrl-C, stop all with what they started: each is
# a group of processes of its own.
groups=()
end_groups() {
  local group
  for group in "${groups[@]}"; do kill -- "-$group" 2>/dev/null || true; done
  groups=()
}
together() {
  local step said
  # What the shell itself says of jobs that end is nobody's business.
  exec {said}>&2 2>/dev/null
  trap 'end_groups; exit 130' INT TERM
  set -m
  for step in "$@"; do
    ($step) </dev/null 2>&"$said" &
    groups+=($!)
  done
  set +m
  for step in "${groups[@]}"; do
    wait "$step" || { end_groups; exit 1; }
  done
  exec 2>&"$said" {said}>&-
  groups=()
  trap - INT TERM
}

# A step beside this process and what it becomes; it says "built" when it is through, and ends with what it started when this
# process is gone.
beside() {
  local work said
  exec {said}>&2 2>/dev/null
  set -m
  ("$@" && echo built) </dev/null 2>&"$said" &
  work=$!
  set +m
  while kill -0 "$work" 2>/dev/null; do
    kill -0 $$ 2>/dev/null || { kill -- "-$work" 2>/dev/null; break; }
    sleep 0.2
  done
}

# Debian packages, given as "command:package" or "/path/with/stars:package".
need_packages() {
  local missing=() pair probe log
  for pair in "$@"; do
    probe=${pair%%:*}
    case "$probe" in
      /*) compgen -G "$probe" >/dev/null || missing+=("${pair##*:}") ;;
      *) PATH="$PATH:/usr/sbin:/sbin" command -v "$probe" >/dev/null 2>&1 || missing+=("${pair##*:}") ;;
    esac
  done
  [ ${#missing[@]} -eq 0 ] && return
  local as_root=()
  if [ "$(id -u)" -ne 0 ]; then
    command -v sudo >/dev/null 2>&1 || stop "${missing[*]} must be installed, which takes root or sudo. Ask for: apt-get install ${missing[*]}"
    as_root=(sudo)
  fi
  command -v apt-get >/dev/null 2>&1 || stop "this is no Debian: install ${missing[*]} by hand, then run this again"
  say "installing Debian packages: ${missing[*]}"
  log=$(log_of debian)
  if ! { "${as_root[@]}" apt-get update && DEBIAN_FRONTEND=noninteractive \
    "${as_root[@]}" apt-get install -y --no-install-recommends "${missing[@]}"; } >"$log" 2>&1; then
    stop "apt-get could not install ${missing[*]}: is there a network? Its output is in $log"
  fi
}

find_python() {
  local name
  for name in python3.11 python3; do
    if "$name" -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11))' 2>/dev/null; then
      PYTHON=$name
      return
    fi
  done
  stop "Python 3.11 is needed and was not found; Debian 12 has it as python3"
}

need_node() {
  command -v node >/dev/null 2>&1 || stop "Node 20.19 or newer is needed and was not found"
  command -v npm >/dev/null 2>&1 || stop "npm is needed and was not found; it comes with Node"
  node -e 'const [a, b] = process.versions.node.split(".").map(Number); process.exit(a > 20 || (a === 20 && b >= 19) ? 0 : 1)' \
    || stop "Node 20.19 or newer is needed; this one is $(node --version)"
}

# The virtual environment as locked, installed by uv, which pip brings, and by pip itself where uv cannot. "dev" holds everything
# that "runtime" does and the tools of the tests.
need_environment() {
  local kind=$1 lock=requirements.lock stamp log
  [ "$kind" = dev ] && lock=requirements-dev.lock
  if [ "$kind" = runtime ] && [ "$(cat .venv/flinch-dev 2>/dev/null)" = "$(sums requirements-dev.lock)" ]; then return; fi
  stamp=$(sums "$lock")
  [ "$(cat ".venv/flinch-$kind" 2>/dev/null)" = "$stamp" ] && return
  say "installing Python packages"
  log=$(log_of python)
  rm -f .venv/flinch-*
  if [ ! -x .venv/bin/python ] || ! .venv/bin/python -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11))'; then
    "$PYTHON" -m venv --clear .venv >"$log" 2>&1 || stop "the virtual environment could not be made: $(tail -n 1 "$log")"
  fi
  .venv/bin/python -m pip --version >/dev/null 2>&1 || "$PYTHON" -m venv --clear .venv
  if ! { by_pip requirements-uv.lock && by_uv "$lock"; } >"$log" 2>&1 && ! by_pip "$lock" >>"$log" 2>&1; then
    stop "the Python packages could not be installed: is there a network? Its output is in $log"
  fi
  echo "$stamp" >".venv/flinch-$kind"
}
by_pip() { .venv/bin/python -m pip install -q --disable-pip-version-check --require-hashes -r "$1"; }
# uv does not read pip's settings: what they say of where packages come from is handed over.
by_uv() {
  local pip=(.venv/bin/python -m pip config get) first more links
  first=${PIP_INDEX_URL:-$("${pip[@]}" global.index-url 2>/dev/null || true)}
  more=${PIP_EXTRA_INDEX_URL:-$("${pip[@]}" global.extra-index-url 2>/dev/null || true)}
  links=${PIP_FIND_LINKS:-$("${pip[@]}" global.find-links 2>/dev/null || true)}
  env ${first:+UV_DEFAULT_INDEX="$first"} ${more:+UV_INDEX="$more"} ${links:+UV_FIND_LINKS="${links// /,}"} \
    ${PIP_CERT:+SSL_CERT_FILE="$PIP_CERT"} UV_INDEX_STRATEGY=unsafe-best-match \
    .venv/bin/uv pip install -q --python .venv/bin/python --require-hashes -r "$1"
}

need_node_packages() {
  local stamp log
  stamp=$(sums ui/package.json ui/package-lock.json)
  [ "$(cat ui/node_modules/flinch-stamp 2>/dev/null)" = "$stamp" ] && return
  say "installing Node packages"
  log=$(log_of node)
  # Not "npm ci": it refuses a lock without the optional packages of other platforms. --no-save leaves the lock as it is.
  (cd ui && npm install --no-save --ignore-scripts --no-audit --no-fund) >"$log" 2>&1 \
    || stop "the Node packages could not be installed: is there a network? Its output is in $log"
  echo "$stamp" >ui/node_modules/flinch-stamp
}

# Built only when its sources changed.
need_interface() {
  local stamp log
  stamp=$(sums ui/src ui/public ui/index.html ui/vite.config.ts ui/package-lock.json)
  [ "$(cat ui/dist/flinch-stamp 2>/dev/null)" = "$stamp" ] && return
  need_node
  need_node_packages
  say "building the interface"
  log=$(log_of interface)
  (cd ui && npm run --silent build) >"$log" 2>&1 || stop "the interface could not be built; the output is in $log"
  echo "$stamp" >ui/dist/flinch-stamp
}
