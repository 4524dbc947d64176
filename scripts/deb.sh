#!/usr/bin/env bash
# Builds the Debian package dist/kobrel_VERSION_ARCH.deb: an environment of its own under /opt/kobrel, the
# program, the desktop's files, the manual and completions. With "share" it has all but the environment, for tests.
set -euo pipefail
cd "$(dirname "$0")/.."
PART=${1:-all}
SYSTEM_PYTHON=${SYSTEM_PYTHON:-/usr/bin/python3}
VERSION=$(.venv/bin/python -c 'import kobrel; print(kobrel.__version__)')
ARCH=$(dpkg --print-architecture)
MINOR=$("$SYSTEM_PYTHON" -c 'import sys; print("%d %d" % (sys.version_info[1], sys.version_info[1] + 1))')
ROOT=$(pwd)/build/deb/root
say() { printf 'kobrel: %s\n' "$*"; }

rm -rf build/deb && mkdir -p "$ROOT/DEBIAN" "$ROOT/usr/bin" "$ROOT/usr/share/doc/kobrel" "$ROOT/usr/share/lintian/overrides" dist

if [ "$PART" = all ]; then
  bash scripts/wheel.sh
  say "making the environment of the package"
  "$SYSTEM_PYTHON" -m venv --without-pip "$ROOT/opt/kobrel"
  .venv/bin/python -m pip -qq --disable-pip-version-check --python "$ROOT/opt/kobrel/bin/python" \
    install --no-compile -c constraints.txt "$(ls -t dist/kobrel-*.whl | head -1)"
  # What was made here has to find itself where it will stand.
  sed -i '1s|^#!.*python.*|#!/opt/kobrel/bin/python3|' $(grep -lIE '^#!.*python' "$ROOT"/opt/kobrel/bin/*)
  sed -i 's|^command = .*|command = python3 -m venv /opt/kobrel|' "$ROOT/opt/kobrel/pyvenv.cfg"
  rm -f "$ROOT"/opt/kobrel/bin/[Aa]ctivate* "$ROOT"/opt/kobrel/lib64
  find "$ROOT/opt" -type d -name __pycache__ -prune -exec rm -rf {} +
  find "$ROOT/opt" -type f ! -path '*/bin/*' -exec chmod a-x {} +
fi

ln -s /opt/kobrel/bin/kobrel "$ROOT/usr/bin/kobrel"
.venv/bin/kobrel desktop --install --root "$ROOT/usr/share" --program kobrel >/dev/null
mkdir -p "$ROOT/usr/share/zsh/vendor-completions"
mv "$ROOT/usr/share/zsh/site-functions/_kobrel" "$ROOT/usr/share/zsh/vendor-completions/"
rmdir "$ROOT/usr/share/zsh/site-functions"
gzip -9n "$ROOT/usr/share/man/man1/kobrel.1"

DOC="$ROOT/usr/share/doc/kobrel"
cat >"$DOC/copyright" <<END
Format: https://www.debian.org/doc/packaging-manuals/copyright-format/1.0/
Upstream-Name: Kobrel

Files: *
Copyright: 2026 The Kobrel authors
License: Apache-2.0
 On Debian systems the full text of the Apache License 2.0 is in
 /usr/share/common-licenses/Apache-2.0.
 .
 The packages under /opt/kobrel/lib bring their own licences, in their dist-info folders. The type, B612, is
 under the SIL Open Font License 1.1; its text is beside it.
END
printf 'kobrel (%s) unstable; urgency=medium\n\n  * See the documentation of this version.\n\n -- The Kobrel authors <packages@kobrel.org>  %s\n' \
  "$VERSION" "$(date -Ru -d @"${SOURCE_DATE_EPOCH:-$(git log -1 --format=%ct 2>/dev/null || date +%s)}")" | gzip -9n >"$DOC/changelog.gz"
# An environment of its own, with compiled libraries, scripts, pages and fonts as their makers publish them.
for tag in custom-library-search-path dir-or-file-in-opt duplicate-font-file embedded-library executable-stack-in-shared-library \
  extra-license-file hardening-no-pie library-not-linked-against-libc no-manual-page \
  package-contains-documentation-outside-usr-share-doc privacy-breach-generic privacy-breach-logo \
  script-not-executable shared-library-lacks-prerequisites truetype-font-prohibits-installable-embedding \
  unstripped-binary-or-object unusual-interpreter wrong-path-for-interpreter; do
  echo "kobrel: $tag"
done >"$ROOT/usr/share/lintian/overrides/kobrel"

libraries=$(sed -n 's/^SYSTEM="\(.*\)"$/\1/p' scripts/setup.sh | sed 's/ /, /g')
read -r minor next <<<"$MINOR"
cat >"$ROOT/DEBIAN/control" <<END
Package: kobrel
Version: $VERSION
Architecture: $ARCH
Maintainer: The Kobrel authors <packages@kobrel.org>
Installed-Size: $(du -sk --exclude=DEBIAN "$ROOT" | cut -f1)
Depends: python3 (>= 3.$minor), python3 (<< 3.$next), libc6, libstdc++6, $libraries
Recommends: shared-mime-info, desktop-file-utils
Section: graphics
Priority: optional
Description: plans physically based depth of field for computer-made shots
 Kobrel works from a scene with a camera: measure how far things are, choose
 lens, stop, sensor and the shape of the blur, set the focus over time, see
 the true depth of field before anything is rendered, and take the values to
 a renderer.
END
# Bytecode and kernels are made where the package is installed, and go with it.
cat >"$ROOT/DEBIAN/postinst" <<'END'
#!/bin/sh
set -e
if [ "$1" = configure ] && [ -x "${DPKG_ROOT:-}/opt/kobrel/bin/python3" ]; then
  "${DPKG_ROOT:-}/opt/kobrel/bin/python3" -m compileall -q -x scripts/deploy_lib "${DPKG_ROOT:-}/opt/kobrel/lib" || true
  # Kept beside the program, for everybody; a package that is put into another root compiles at its first start.
  if [ -z "${DPKG_ROOT:-}" ]; then
    echo "kobrel: compiling what draws, about a minute"
    /opt/kobrel/bin/kobrel warm-up >/dev/null || true
  fi
fi
END
cat >"$ROOT/DEBIAN/postrm" <<'END'
#!/bin/sh
set -e
if [ "$1" = remove ] || [ "$1" = purge ]; then
  rm -rf "${DPKG_ROOT:-}/opt/kobrel"
  rmdir "${DPKG_ROOT:-}/opt" 2>/dev/null || true
fi
END
chmod 755 "$ROOT/DEBIAN/postinst"
chmod 755 "$ROOT/DEBIAN/postrm"
find "$ROOT" -type d -exec chmod 755 {} +
find "$ROOT/usr" -type f -exec chmod 644 {} +
(cd "$ROOT" && find . -type f ! -path './DEBIAN/*' -printf '%P\0' | sort -z | xargs -0 md5sum >DEBIAN/md5sums)
chmod 644 "$ROOT/DEBIAN/control" "$ROOT/DEBIAN/md5sums"

target="dist/kobrel_${VERSION}_$ARCH$([ "$PART" = all ] || echo .share).deb"
say "packing $target"
dpkg-deb --root-owner-group -Zxz -z1 --build "$ROOT" "$target" >/dev/null
say "$target, $(du -h "$target" | cut -f1)"
