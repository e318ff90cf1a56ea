#!/bin/bash
# other_desk.sh KESTRUM FOLDER: in a mount namespace of its own, a desktop session of the user nobody; root runs a job over files of
# nobody's. Prints what the notification service of that session was told.
kestrum=${1:?} folder=${2:?}
mkdir -p /run/user && mount -t tmpfs tmpfs /run/user && mkdir -m 700 /run/user/65534 && chown nobody /run/user/65534 || exit 1
mkdir -p "$folder/src" "$folder/drive" && chmod 755 "$folder" && echo a >"$folder/src/a" && chown -R nobody "$folder/src"
session() {
  dbus-daemon --session --nofork --address=unix:path=/run/user/65534/bus 2>/dev/null &
  while [ ! -S /run/user/65534/bus ]; do sleep 0.05; done
  DBUS_SESSION_BUS_ADDRESS=unix:path=/run/user/65534/bus \
    exec /usr/bin/python3 -m dbusmock --session -t notification_daemon -l /run/user/65534/log
}
export -f session
runuser -u nobody -- bash -c session &
for _ in $(seq 200); do
  runuser -u nobody -- dbus-send --bus=unix:path=/run/user/65534/bus --print-reply --dest=org.freedesktop.Notifications \
    /org/freedesktop/Notifications org.freedesktop.DBus.Peer.Ping >/dev/null 2>&1 && break
  sleep 0.05
done
export KESTRUM_HOME=$folder/home TZ=UTC KESTRUM_MACHINE=skerry-1
unset DBUS_SESSION_BUS_ADDRESS
"$kestrum" job define lists --what-folders "$folder/src" --where-destinations "$folder/drive" --same-disk --protect-encryption none \
  --tell-desktop "every run" >/dev/null 2>&1
KESTRUM_NOW=2027-03-01T12:00:00Z "$kestrum" run lists >/dev/null 2>&1
echo b >"$folder/src/b"
KESTRUM_NOW=2027-03-02T12:00:00Z "$kestrum" run lists >/dev/null 2>&1
grep -o 'Notify .*' /run/user/65534/log
pkill -u nobody -f /run/user/65534/bus
pkill -u nobody -f notification_daemon
exit 0
