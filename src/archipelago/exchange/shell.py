"""The parts of a network's script that are the same in all of them."""

from __future__ import annotations

SETTINGS = """\
# Settings of every namespace, made before its interfaces exist so that they all take them over.
settings() {
  ip netns exec "$1" sh -c '
    cd /proc/sys/net
    for where in ipv4/conf/all ipv4/conf/default; do
      echo 1 >$where/arp_ignore                    # answer ARP only on the interface that holds the address (RFC 826)
      echo 0 >$where/rp_filter                     # no check of the source address
      echo 0 >$where/send_redirects
      echo 0 >$where/accept_redirects
      echo 1 >$where/ignore_routes_with_linkdown   # a route needs its interface to have carrier
      echo 1 >$where/drop_unicast_in_l2_multicast  # RFC 1122 3.3.6
      echo 0 >$where/forwarding
    done
    echo 0 >ipv4/icmp_ratelimit
    echo 49152 65535 >ipv4/ip_local_port_range     # RFC 6335 6
    if [ -d ipv6 ]; then
      for where in ipv6/conf/all ipv6/conf/default; do
        echo 0 >$where/accept_ra
        echo 0 >$where/accept_dad                  # addresses are usable at once
        echo 0 >$where/accept_redirects
        echo 1 >$where/ignore_routes_with_linkdown
        echo 0 >$where/forwarding
      done
      echo 0 >ipv6/icmp/ratelimit
    fi
    for family in $2; do echo 1 >$family/conf/all/forwarding; done
  ' sh "$1" "$2"
}

# An interface without carrier holds its addresses for nobody (the kernel by itself would still answer for them).
settle() {
  ip -n "$1" -br link | while read -r name state mac flags; do
    case "$flags" in *LOWER_UP*) ;; *) ip -n "$1" addr flush dev "${name%%@*}" 2>/dev/null || : ;; esac
  done
}

# A subinterface that cannot speak is up and down with its parent all the same.
follow() {
  case "$(ip -n "$1" -br link show dev "$3" 2>/dev/null)" in *LOWER_UP*) ;; *) ip -n "$1" addr flush dev "$2" ;; esac
}

# Wait until command $1 has printed $2 at $3 looks in a row, half a second apart; what lasts for $4 looks is taken as it
# is: a difference must last before it counts.
lasting() {
  same=0 last= tries=0
  while [ "$tries" -lt 240 ]; do
    now=$("$1"); tries=$((tries + 1))
    if [ "$now" = "$last" ]; then same=$((same + 1)); else same=1; fi
    last="$now"
    if [ "$same" -ge "$4" ] || { [ "$now" = "$2" ] && [ "$same" -ge "$3" ]; }; then return; fi
    sleep 0.5
  done
}
"""


ENDING = (
    "",
    "own() {",
    '  if [ -e "/run/netns/$1" ]; then echo "$1 exists and is not ours; nothing was built" >&2; down; exit 1; fi',
    '  echo "$1" >>"$made"',
    "}",
    "",
    "finish() {",
    "  tree; routes; elect; lease",
    "}",
    "",
    'case "${1:-}" in',
    "  up) trap 'code=$?; [ $code = 0 ] || down' EXIT; build; sleep 1.2; finish ;;",
    '  build|finish) "$1" ;;   # the parts of up, for who builds many',
    "  down) down ;;",
    '  *) echo "usage: $0 up | down" >&2; exit 2 ;;',
    "esac",
)
"""The rest of the script: who owns what, and its words."""
