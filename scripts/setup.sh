# Sourced by ./start and ./check: the virtual environment, the packages, the system libraries of Qt.

qt_libraries=(libglib2.0-0 libgl1 libegl1 libfontconfig1 libdbus-1-3 libxkbcommon0 libxcb-cursor0 libxcb-icccm4
  libxcb-keysyms1 libxcb-shape0 libxkbcommon-x11-0)
client_build=(gcc libmariadb-dev pkg-config) # the fast client of MariaDB comes as source; only the tests need it

say() { echo "setup: $*" >&2; }

has_package() { # by its name, or by that of newer releases, where some libraries end in t64
  [[ $(dpkg-query -W -f '${Status}\n' "$1" "$1t64" 2>/dev/null) == *"ok installed"* ]]
}

need_packages() { # the given Debian packages, installed when root, else named
  local missing=() package
  command -v dpkg-query >/dev/null || return 0
  for package in "$@"; do
    has_package "$package" || missing+=("$package")
  done
  [ ${#missing[@]} -eq 0 ] && return 0
  if [ "$(id -u)" = 0 ]; then
    say "installing ${missing[*]}"
    apt-get update -qq >/dev/null
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
  else
    say "these system packages are missing; install them and start again:"
    echo "  sudo apt-get install ${missing[*]}" >&2
    return 1
  fi
}

find_python() {
  local name
  for name in python3.11 python3.12 python3.13 python3.14 python3; do
    if command -v "$name" >/dev/null && "$name" -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then
      echo "$name"
      return 0
    fi
  done
  say "Python 3.11 or newer is needed"
  return 1
}

set_up() { # a lock file: make .venv hold exactly what it says, and ourselves
  local lock=$1 python stamp
  python=$(find_python)
  need_packages "${qt_libraries[@]}"
  [ "$lock" = requirements.lock ] || need_packages "${client_build[@]}"
  if [ "$lock" != requirements.lock ] && ! "$python" -c 'import os, sysconfig; os.stat(sysconfig.get_paths()["include"] + "/Python.h")' 2>/dev/null; then
    need_packages python3-dev
  fi
  if ! "$python" -c 'import venv, ensurepip' 2>/dev/null; then
    need_packages python3-venv
  fi
  [ -x .venv/bin/python ] || { say "making .venv"; "$python" -m venv .venv; }
  stamp=$(cat requirements.lock "$lock" pyproject.toml | sha256sum | cut -c1-20)
  if ! grep -qs "$stamp" .venv/set-up; then
    if [ "$lock" = requirements.lock ] && grep -qs "dev $(cat requirements.lock pyproject.toml | sha256sum | cut -c1-20)" .venv/set-up; then
      :
    else
      say "installing the packages of $lock"
      .venv/bin/python -m pip install -q --disable-pip-version-check --require-hashes -r "$lock"
      .venv/bin/python -m pip install -q --disable-pip-version-check --no-deps -e .
      { [ "$lock" = requirements.lock ] || echo "dev $(cat requirements.lock pyproject.toml | sha256sum | cut -c1-20)"; echo "$stamp"; } > .venv/set-up
    fi
  fi
  export PATH="$PWD/.venv/bin:$PATH"
}

set_up_servers() { # the servers that the tests start, none of which runs by itself, and programs that open files
  [ -x /usr/sbin/sshd ] || { # only the tests start it: nobody is to log in here who could not before
    need_packages openssh-server
    systemctl disable --now ssh.service ssh.socket >/dev/null 2>&1 || true
  }
  need_packages openssh-client postgresql mariadb-server firebird3.0-server desktop-file-utils appstream shared-mime-info libglib2.0-bin openssl gnumeric libreoffice-calc-nogui xlsx2csv xvfb at-spi2-core dbus-daemon systemd
  local stamp
  stamp=$(sha256sum < tests/servers/requirements.lock | cut -c1-20)
  grep -qs "$stamp" .servers/set-up && return 0
  say "installing the document server of the tests"
  rm -rf .servers
  "$(find_python)" -m venv .servers
  .servers/bin/python -m pip install -q --disable-pip-version-check --require-hashes -r tests/servers/requirements.lock
  echo "$stamp" > .servers/set-up
}

set_up_spark() { # an engine that the long check starts; its package is 455 MB
  command -v java >/dev/null || need_packages openjdk-17-jre-headless
  set_up_apart spark
}

set_up_clickhouse() { # likewise; its package is 180 MB, and asks for others that are not needed
  set_up_apart clickhouse --no-deps
}

set_up_apart() { # a virtual environment .servers/NAME with the packages of tests/servers/NAME.lock
  local stamp name=$1
  shift
  stamp=$(sha256sum < "tests/servers/$name.lock" | cut -c1-20)
  grep -qs "$stamp" ".servers/$name/set-up" && return 0
  say "installing the packages of tests/servers/$name.lock"
  rm -rf ".servers/$name"
  "$(find_python)" -m venv ".servers/$name"
  ".servers/$name/bin/python" -m pip install -q --disable-pip-version-check --require-hashes "$@" -r "tests/servers/$name.lock"
  echo "$stamp" > ".servers/$name/set-up"
}

set_up_pouch() { # a server of CouchDB's protocol that is not ours, for the long check
  local stamp
  command -v npm >/dev/null || need_packages nodejs npm
  stamp=$(sha256sum < tests/servers/pouch/package-lock.json | cut -c1-20)
  grep -qs "$stamp" .servers/pouch/set-up && return 0
  say "installing the packages of tests/servers/pouch/package-lock.json"
  rm -rf .servers/pouch
  mkdir -p .servers/pouch
  cp tests/servers/pouch/*.json .servers/pouch/
  (cd .servers/pouch && npm ci --ignore-scripts --omit=optional --no-audit --no-fund --loglevel=error >/dev/null)
  echo "$stamp" > .servers/pouch/set-up
}
