#!/usr/bin/env bash
# Builds build/nimble-otter_VERSION_ARCH.deb for Debian 12: our own virtual environment under /opt, Qt trimmed to what is
# used, launchers, menu entry, manual pages and completions. Needs python3-venv, dpkg-deb and the packages of the lock.
set -euo pipefail
cd "$(dirname "$0")/.."
home=/opt/nimble-otter
build=$PWD/build/deb
root=$build/root
python=$(command -v /usr/bin/python3.11 || command -v python3.11)
rm -rf "$build"
mkdir -p "$root/opt" "$root/usr/bin" "$root/DEBIAN"

"$python" -m venv "$root$home"
"$root$home/bin/python" -m pip install -q --disable-pip-version-check --require-hashes -r requirements.lock
"$root$home/bin/python" -m pip wheel -q --disable-pip-version-check --no-deps -w "$build" .
"$root$home/bin/python" -m pip install -q --disable-pip-version-check --no-deps "$build"/nimble_otter-*.whl
version=$("$root$home/bin/python" -c 'import nimble_otter; print(nimble_otter.__version__)')
packages=$root$home/lib/python3.11/site-packages

# what the program does not load: QML, the parts of designer and compiler, languages that we have not, tools for building
qt=$packages/PySide6/Qt
find "$qt/translations" -type f ! -name "qtbase_de.qm" -delete 2>/dev/null || true
rm -rf "$qt"/{qml,libexec,metatypes} "$packages"/PySide6/{glue,typesystems,include,support,doc,resources,scripts}
rm -rf "$qt"/plugins/{designer,qmltooling,qmllint,qmlls,sqldrivers,help,scxmldatamodel,assetimporters}
rm -f "$qt"/lib/libQt6{Qml,Quick,Labs,Designer,Help,UiTools,Lottie,WaylandCompositor,Sql}*.so*
rm -f "$packages"/PySide6/Qt{Qml,Quick,Designer,Help,UiTools,Sql,Xml,QuickControls2,QuickWidgets,QmlIntegration}*.{abi3.so,pyi}
find "$packages/PySide6" -maxdepth 1 -type f ! -name '*.so*' ! -name '*.py' ! -name 'py.typed' -delete
"$root$home/bin/python" -m pip uninstall -q -y pip setuptools wheel 2>/dev/null || true
find "$root$home" -name __pycache__ -prune -exec rm -rf {} +
find "$root$home/bin" -type f ! -name 'nimble-otter*' -delete
find "$root$home/bin" -type l ! -name 'python*' -delete

# the environment is built in one place and lives in another
ln -sfn /usr/bin/python3.11 "$root$home/bin/python3.11"
ln -sfn python3.11 "$root$home/bin/python3"
ln -sfn python3.11 "$root$home/bin/python"
printf 'home = /usr/bin\ninclude-system-site-packages = false\nversion = 3.11\n' > "$root$home/pyvenv.cfg"
for name in nimble-otter nimble-otter-desktop; do
  sed -i "1s|.*|#!$home/bin/python|" "$root$home/bin/$name"
  ln -s "$home/bin/$name" "$root/usr/bin/$name"
done

mkdir -p "$root/usr/share/doc"
cp -r "$packages/nimble_otter/desktop/share/." "$root/usr/share/"
mkdir -p "$root/usr/share/zsh/vendor-completions"
mv "$root/usr/share/zsh/site-functions/_nimble-otter" "$root/usr/share/zsh/vendor-completions/"
rmdir "$root/usr/share/zsh/site-functions"
cp -r "$root$home/share/doc/nimble-otter" "$root/usr/share/doc/"
cp LICENSE "$root/usr/share/doc/nimble-otter/copyright"
cat licenses/Fonts-OFL-1.1.txt >> "$root/usr/share/doc/nimble-otter/copyright"
rm -rf "$root$home/share"
gzip -9n "$root"/usr/share/man/man1/*.1
chmod -R u=rwX,go=rX "$root"

cat > "$root/DEBIAN/control" <<CONTROL
Package: nimble-otter
Version: $version
Section: database
Priority: optional
Architecture: $(dpkg --print-architecture)
Maintainer: The Nimble Otter authors <packages@nimbleotter.org>
Installed-Size: $(du -sk "$root" | cut -f1)
Depends: python3.11, libglib2.0-0, libgl1, libegl1, libfontconfig1, libdbus-1-3, libxkbcommon0, libxcb-cursor0,
 libxcb-icccm4, libxcb-keysyms1, libxcb-shape0, libxkbcommon-x11-0
Recommends: shared-mime-info, desktop-file-utils, openssh-client
Description: pull query results, shape them, correct cells safely, deliver
 Pulls query results from relational and document databases, filters, sorts and
 groups them locally, corrects cells through rehearsed statements, and delivers
 the rows as CSV, XLSX, JSON or SQL inserts.
CONTROL
cat > "$root/DEBIAN/postinst" <<'SCRIPT'
#!/bin/sh
set -e
/opt/nimble-otter/bin/python -m compileall -q /opt/nimble-otter/lib >/dev/null || true
for folder in applications mime; do
  case $folder in
    applications) command -v update-desktop-database >/dev/null && update-desktop-database -q || true ;;
    mime) command -v update-mime-database >/dev/null && update-mime-database /usr/share/mime || true ;;
  esac
done
SCRIPT
cat > "$root/DEBIAN/prerm" <<'SCRIPT'
#!/bin/sh
set -e
find /opt/nimble-otter -name __pycache__ -prune -exec rm -rf {} +
SCRIPT
cat > "$root/DEBIAN/postrm" <<'SCRIPT'
#!/bin/sh
set -e
command -v update-desktop-database >/dev/null && update-desktop-database -q || true
command -v update-mime-database >/dev/null && update-mime-database /usr/share/mime || true
SCRIPT
chmod 755 "$root"/DEBIAN/{postinst,prerm,postrm}
deb=build/nimble-otter_${version}_$(dpkg --print-architecture).deb
dpkg-deb --build --root-owner-group -Zxz "$root" "$deb" >/dev/null
echo "$deb ($(du -h "$deb" | cut -f1))"
