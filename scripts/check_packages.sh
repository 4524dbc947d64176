#!/usr/bin/env bash
# Proves the packages: the wheel in an empty environment makes the demo's movie; the Debian package is linted,
# and installed into and removed from a test root, which is left as it was.
set -euo pipefail
cd "$(dirname "$0")/.."
PYTHON=${PYTHON:-python3}
PLACE=$(mktemp -d)
trap 'rm -rf "$PLACE"' EXIT
say() { printf 'kobrel: %s\n' "$*"; }

say "the wheel, in an empty environment"
"$PYTHON" -m venv "$PLACE/empty"
"$PLACE/empty/bin/pip" -qq --disable-pip-version-check install "$(ls -t dist/kobrel-*.whl | head -1)"
(cd "$PLACE" && unset PYTHONPATH && demo=$("$PLACE/empty/bin/python" -c 'import kobrel.demo, pathlib; print(pathlib.Path(kobrel.demo.__file__).parent / "night_ferry.kobrel")') \
  && "$PLACE/empty/bin/kobrel" movie "$demo" --shot 02 --first 1001 --last 1024 --size 320x180 --samples 4 -o demo.mp4 \
  && ls -l demo.mp4)

say "the desktop's files"
desktop-file-validate build/deb/root/usr/share/applications/kobrel.desktop
appstreamcli validate --no-net build/deb/root/usr/share/metainfo/kobrel.metainfo.xml

package=$(ls -t dist/kobrel_*.deb | grep -v share | head -1)
say "installing $package into a test root"
root="$PLACE/root"
mkdir -p "$root/var/lib/dpkg/updates" "$root/var/lib/dpkg/info" "$root/var/log"
touch "$root/var/lib/dpkg/status"
(cd "$root" && find . ! -path './var/*' | sort) >"$PLACE/before"
dpkg --root="$root" --log=/dev/null --force-depends --force-script-chrootless -i "$package" >/dev/null
test -e "$root/usr/share/applications/kobrel.desktop"
say "running it there"
PYTHONHOME='' "$root/opt/kobrel/bin/python3" -c 'import kobrel; print("Kobrel", kobrel.__version__, kobrel.__file__)'
dpkg --root="$root" --log=/dev/null --force-script-chrootless --purge kobrel >/dev/null
(cd "$root" && find . ! -path './var/*' | sort) >"$PLACE/after"
diff "$PLACE/before" "$PLACE/after" && say "removed; nothing is left"

say "lintian, which takes some minutes"
lintian --allow-root --fail-on error --tag-display-limit 5 "$package"
