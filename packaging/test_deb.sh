#!/usr/bin/env bash
# As root: installs the built package, uses it as an ordinary user, removes it, and sees that nothing stays.
set -euo pipefail
cd "$(dirname "$0")/.."
deb=$(ls -t build/nimble-otter_*.deb | head -1)
home=$(mktemp -d)
chown nobody "$home"
as_user() { setpriv --reuid nobody --regid nogroup --clear-groups env -i HOME="$home" PATH=/usr/bin:/bin LANG=C.UTF-8 "$@"; }
apt-get install -y -qq --no-install-recommends "./$deb" >/dev/null
as_user nimble-otter --version
as_user nimble-otter demo "$home/demo" --readings 1000
as_user nimble-otter query --source "$home/demo/merrow.sqlite" --sql 'select count(*) as n from station' --format csv
(cd "$home" && as_user nimble-otter-desktop --tour "$home/tour") | tail -3
desktop-file-validate /usr/share/applications/org.nimbleotter.NimbleOtter.desktop
grep -q '^Exec=/usr/bin/nimble-otter-desktop$' /usr/share/dbus-1/services/org.nimbleotter.NimbleOtter.service
[ -e /usr/share/man/man1/nimble-otter.1.gz ]
apt-get remove -y -qq nimble-otter >/dev/null
left=$(find /usr /opt /etc -iname '*nimble*otter*' 2>/dev/null || true)
rm -rf "$home"
[ -z "$left" ] || { echo "left behind: $left" >&2; exit 1; }
echo "installed, used and removed clean"
