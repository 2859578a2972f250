#!/bin/sh
# Chromium for the browser tests: from Debian's packages where this user may install them.
command -v chromium >/dev/null 2>&1 && exit 0
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
  echo "Installing Chromium for the browser tests"
  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends chromium >/dev/null && exit 0
fi
echo "Chromium is not here and could not be installed: apt install chromium" >&2
if [ -n "$CI" ]; then
  exit 1
fi
echo "The browser tests are skipped." >&2
