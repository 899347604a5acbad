#!/bin/busybox sh
# What udhcpc calls with an address in hand.
case "$1" in
  bound|renew)
    ip addr flush dev "$interface"
    ip addr add "$ip/${mask:-24}" dev "$interface"
    for way in $router; do ip route add default via "$way" dev "$interface" 2>/dev/null; break; done
    : > /etc/resolv.conf
    for name in $dns; do echo "nameserver $name" >> /etc/resolv.conf; done
    ;;
esac
