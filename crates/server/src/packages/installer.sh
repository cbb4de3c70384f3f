#!/bin/sh
# Installs the Constans agent on this machine and lets it join a fleet. The server wrote it; the line that fetched it has its SHA-256,
# and it has those of the packages, so nothing depends on the way by which they come.
#
# What is given to it is passed on to constans-agent join: --invitation-file FILE, --name NAME, --until in_line.
set -eu
URLS='@URLS@'
# version, format, architecture, oldest C library, SHA-256, bytes
PACKAGES='@PACKAGES@'
SYSTEMS='@SYSTEMS@'

if [ "$(id -u)" != 0 ]; then
  if command -v sudo >/dev/null; then echo "the agent is installed by root: asking sudo"; exec sudo sh "$0" "$@"; fi
  echo "error: the agent is installed by root, and there is no sudo here" >&2
  echo "hint: become root, and paste the line again" >&2
  exit 1
fi

# The line fetched it into a temporary file, which goes with it.
own=''
case $0 in */tmp.*) own=$0 ;; esac
trap 'rm -f "$own"' EXIT

# Everything is looked at before anything is done.
misfits=''
misfit() { misfits="$misfits
  - $1
    $2"; }
newest() { printf '%s\n' "$@" | sort -V | tail -n1; }
field() { (. /etc/os-release 2>/dev/null && eval "printf '%s' \"\${$1:-}\""); }

system=$(field PRETTY_NAME)
format=''
case " $(field ID) $(field ID_LIKE) " in
  *' debian '* | *' ubuntu '*) format=deb; program=dpkg ;;
  *' fedora '* | *' rhel '* | *' suse '* | *' opensuse '*) format=rpm; program=rpm ;;
esac
if [ -z "$format" ]; then
  misfit "${system:-this system} is not one that the agent is packaged for" "it is for: $SYSTEMS"
elif ! command -v "$program" >/dev/null; then
  misfit "$program is not here, although ${system:-this system} installs packages by it" "install it"
else
  case $format in deb) architecture=$(dpkg --print-architecture) ;; *) architecture=$(uname -m) ;; esac
  package=$(printf '%s\n' "$PACKAGES" | grep -F " $format $architecture " || true)
  if [ -z "$package" ]; then
    misfit "the server has no package for $architecture as .$format" "it has: $(printf '%s\n' "$PACKAGES" | cut -d' ' -f1-3 | tr '\n' ';'); an administrator adds others: constans agent-package add"
  else
    # shellcheck disable=SC2086
    set -- "$package" "$@"
    read -r version _ _ glibc sha256 bytes <<P
$1
P
    shift
    here=$(getconf GNU_LIBC_VERSION 2>/dev/null | cut -d' ' -f2)
    if [ -z "$here" ] || [ "$(newest "$here" "$glibc")" != "$here" ]; then
      misfit "the C library here is ${here:-none of GNU}, and the agent needs glibc $glibc or later" "it is for: $SYSTEMS"
    fi
  fi
fi
fetch=''
if command -v curl >/dev/null; then fetch=curl; elif command -v wget >/dev/null; then fetch=wget; else
  misfit "there is neither curl nor wget" "install one of them"
fi
for folder in /usr /var /tmp; do
  free=$(df -Pk "$folder" | awk 'NR == 2 { print $4 }')
  if [ "$free" -lt 102400 ]; then misfit "$folder has $((free / 1024)) MiB free, and 100 are needed" "make room"; fi
done
again=''
for argument in "$@"; do case $argument in --again) again=1 ;; esac; done
joined=/var/lib/constans/joined.json
is_node=''
if [ -e $joined ] && [ -z "$again" ]; then is_node=1; fi
if [ -z "$is_node" ] && [ ! -t 0 ] && ! (: </dev/tty) 2>/dev/null; then
  case " $* " in *' --invitation-file'*) ;; *)
    misfit "there is no terminal to ask for the invitation on" "write it into a file that only root reads, and give --invitation-file FILE" ;;
  esac
fi
if [ -n "$misfits" ]; then
  echo "error: nothing was installed, since this machine does not fit:$misfits" >&2
  exit 1
fi

have=''
case $format in
  deb) have=$(dpkg-query -W -f '${db:Status-Abbrev} ${Version}' constans-agent 2>/dev/null | sed -n 's/^ii *//p') ;;
  rpm) have=$(rpm -q --qf '%{VERSION}' constans-agent 2>/dev/null) || have='' ;;
esac
if [ -n "$have" ] && [ "$(newest "$have" "$version")" = "$have" ]; then
  echo "1 of 3: constans-agent $have is installed already"
else
  echo "1 of 3: fetching constans-agent $version for $system ($((bytes / 1024 / 1024 + 1)) MiB)"
  folder=$(mktemp -d)
  trap 'rm -rf "$folder" "$own"' EXIT
  file="$folder/constans-agent.$format"
  for url in $URLS; do
    case $fetch in
      curl) curl -fsSk --retry 2 -o "$file" "$url/packages/$sha256" && break ;;
      wget) wget -q --no-check-certificate -O "$file" "$url/packages/$sha256" && break ;;
    esac
  done
  if ! echo "$sha256  $file" | sha256sum -c --status 2>/dev/null; then
    echo "error: the package did not come as the server made it from $URLS" >&2
    echo "hint: nothing was installed; paste the line again, and if it stays so, look at what is between this machine and the server" >&2
    exit 1
  fi
  echo "2 of 3: installing"
  case $format in
    deb) dpkg -i "$file" >"$folder/log" 2>&1 ;;
    rpm) rpm -U "$file" >"$folder/log" 2>&1 ;;
  esac || {
    echo "error: $program could not install it:" >&2
    tail -n 5 "$folder/log" >&2
    exit 1
  }
fi

if [ -n "$is_node" ]; then
  echo "3 of 3: this machine belongs to a fleet already and stays in it: constans-agent status; --again joins another one"
  exit 0
fi
echo "3 of 3: joining"
went=0
constans-agent join --wait 0 "$@" || went=$?
if [ ! -e $joined ] && [ ! -e /var/lib/constans/joining.json ]; then exit "$went"; fi
if [ -d /run/systemd/system ]; then
  systemctl enable -q --now constans-agent
  echo "the agent runs, and starts with this machine"
  if [ ! -e $joined ]; then echo "it goes on asking by itself until it is approved or denied: constans-agent status"; went=0; fi
else
  echo "there is no systemd here: have constans-agent daemon started with this machine, as the program of a container for example"
fi
exit "$went"
