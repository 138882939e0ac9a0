#!/bin/sh
# Installs the servers that what goes to others is tried against, from Debian's packages, and has none of them started: each test starts
# its own on loopback, and ends it.
set -eu
as_root() { if [ "$(id -u)" = 0 ]; then "$@"; else sudo "$@"; fi; }
missing=
for need in smtpd:opensmtpd dovecot:dovecot-submissiond rsyslogd:rsyslog prometheus:prometheus promtool:prometheus; do
	PATH=$PATH:/usr/sbin:/sbin command -v "${need%%:*}" >/dev/null || missing="$missing ${need##*:}"
done
ls /usr/lib/*/rsyslog/lmnsd_gtls.so >/dev/null 2>&1 || missing="$missing rsyslog-gnutls"
[ -n "$missing" ] || exit 0
policy=/usr/sbin/policy-rc.d
[ -e $policy ] || { printf '#!/bin/sh\nexit 101\n' | as_root tee $policy >/dev/null && as_root chmod +x $policy && trap 'as_root rm -f $policy' EXIT; }
as_root apt-get update -qq
# shellcheck disable=SC2086
DEBIAN_FRONTEND=noninteractive as_root apt-get install -y -qq --no-install-recommends $missing >/dev/null
