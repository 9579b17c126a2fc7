# Sourced: installs packages of Debian where that is possible, and says what to do where it is not.
# install WHAT-FOR PACKAGE...
install() {
  for_what=$1
  shift
  if ! command -v apt-get >/dev/null 2>&1; then
    echo "$for_what $*, and this is not a Debian system: install it so that it is on the PATH." >&2
    exit 1
  fi
  sudo=""
  if [ "$(id -u)" != 0 ]; then
    if ! command -v sudo >/dev/null 2>&1; then
      echo "$for_what $*. Install it as root: apt-get install $*" >&2
      exit 1
    fi
    sudo=sudo
  fi
  echo "Installing $* from Debian's packages"
  $sudo apt-get update -qq && $sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "$@" >/dev/null || {
    echo "$* could not be installed. Install it yourself: apt-get install $*" >&2
    exit 1
  }
}
