#!/bin/sh
# Make a virtual environment; Debian splits the part this needs into a package.
set -u
python=$1
folder=$2
if [ -z "$python" ]; then
    echo "Python 3.11 or newer is needed (on Debian: apt install python3.11)." >&2
    exit 3
fi
"$python" -c 'import sys; sys.exit(sys.version_info < (3, 11))' || {
    echo "$python is too old: Python 3.11 or newer is needed." >&2
    exit 3
}
"$python" -m venv "$folder" >/dev/null 2>&1 && exit 0
rm -rf "$folder"
package="python$("$python" -c 'import sys; print("%d.%d" % sys.version_info[:2])')-venv"
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
    echo "installing $package, which $python -m venv needs" >&2
    apt-get install -y -qq "$package" >/dev/null 2>&1 ||
        { apt-get update -qq && apt-get install -y -qq "$package"; } >/dev/null
    "$python" -m venv "$folder" && exit 0
    rm -rf "$folder"
fi
echo "$python cannot make a virtual environment (on Debian: apt install $package)." >&2
exit 3
