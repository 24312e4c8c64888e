# Sourced by ./start and ./test: installs what is missing, builds what changed, starts the database.
# Works as root and, with the Debian packages present, as an ordinary user. Everything is skipped when up to date.

cd "$(dirname "${BASH_SOURCE[0]}")/.."
ROOT=$PWD
RUN=$ROOT/.run
mkdir -p "$RUN"
PORT=${FENRIK_PORT:-8040}
PG_PORT=${FENRIK_PG_PORT:-54329}
export PYTHONUNBUFFERED=1

say() { printf '\033[2m[%s]\033[0m %s\n' "$(date +%H:%M:%S)" "$*" >&2; }

need_packages() { # need_packages COMMAND-OR-FILE=PACKAGE...
  local missing=() pair
  for pair in "$@"; do
    local probe=${pair%%=*}
    command -v "$probe" >/dev/null 2>&1 || compgen -G "$probe" >/dev/null || missing+=("${pair#*=}")
  done
  [ ${#missing[@]} -eq 0 ] && return 0
  if [ "$(id -u)" -ne 0 ]; then
    say "Missing Debian packages: ${missing[*]}. Ask for: apt-get install ${missing[*]}"
    exit 1
  fi
  say "installing ${missing[*]}"
  apt-get update -qq
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq "${missing[@]}" >"$RUN/apt.log" 2>&1 ||
    { tail -20 "$RUN/apt.log" >&2; exit 1; }
}

changed() { # changed NAME FILES...: true when the files are not as they were when `done_with NAME` was called
  local name=$1
  shift
  SUM=$(git -C "$ROOT" ls-files -co --exclude-standard -- "$@" | sort | xargs -d '\n' sha256sum 2>/dev/null | sha256sum)
  [ "$(cat "$RUN/$name.sum" 2>/dev/null)" != "$SUM" ]
}
done_with() { printf '%s\n' "$SUM" >"$RUN/$1.sum"; }

prepare_python() {
  local python
  for python in python3.11 python3; do
    command -v $python >/dev/null && $python -c 'import sys; sys.exit(sys.version_info[:2] != (3, 11))' 2>/dev/null && break
    python=
  done
  [ -n "$python" ] || { say "Python 3.11 is missing."; exit 1; }
  if changed python requirements.lock pyproject.toml || [ ! -x .venv/bin/fenrik ]; then
    say "installing Python packages"
    [ -x .venv/bin/python ] || $python -m venv .venv
    .venv/bin/pip install --quiet --require-hashes -r requirements.lock
    .venv/bin/pip install --quiet --no-deps --no-build-isolation -e .
    done_with python
  fi
}

prepare_web() {
  if changed web-packages web/package-lock.json || [ ! -d web/node_modules ]; then
    say "installing front-end packages"
    (cd web && npm ci --no-audit --no-fund --loglevel=error)
    done_with web-packages
  fi
  if changed web web || [ ! -f web/dist/index.html ]; then
    say "building the front end"
    (cd web && npm run --silent build)
    done_with web
  fi
}

prepare_code() { # both at one time: each mostly waits for the disk or for one core
  prepare_web &
  local web=$!
  prepare_python
  wait "$web"
}

prepare_kernels() {
  say "compiling kernels that have changed"
  .venv/bin/fenrik warm
}

# The database: a cluster of its own on loopback. PostgreSQL does not run as root, so root hands it to `postgres`.
prepare_database() {
  PG_BIN=$(ls -d /usr/lib/postgresql/*/bin | sort -V | tail -1)
  if [ "$(id -u)" -eq 0 ]; then
    PG_DATA=/var/lib/postgresql/fenrik-$PG_PORT
    as_owner() { runuser -u postgres -- "$@"; }
  else
    PG_DATA=$RUN/postgres-$PG_PORT
    as_owner() { "$@"; }
  fi
  export FENRIK_DATABASE=postgresql://fenrik@127.0.0.1:$PG_PORT/${1:-fenrik}
  if ! "$PG_BIN/pg_isready" -q -h 127.0.0.1 -p "$PG_PORT"; then
    if [ ! -f "$PG_DATA/PG_VERSION" ]; then
      say "making a database cluster"
      (cd / && as_owner "$PG_BIN/initdb" -D "$PG_DATA" -U fenrik --auth=trust -E UTF8 --locale=C.UTF-8 >/dev/null)
    fi
    say "starting the database"
    (cd / && as_owner "$PG_BIN/pg_ctl" -D "$PG_DATA" -l "$PG_DATA/log" -w -t 60 start \
      -o "-p $PG_PORT -c listen_addresses=127.0.0.1 -c unix_socket_directories= -c max_wal_size=2GB" >/dev/null)
  fi
  "$PG_BIN/createdb" -h 127.0.0.1 -p "$PG_PORT" -U fenrik "${1:-fenrik}" 2>/dev/null || true
}
