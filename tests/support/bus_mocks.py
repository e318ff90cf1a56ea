"""A bus of its own with a session manager and a notification service, for tests: prints its address. On standard input it
is asked, a line each: INHIBITORS (that are held), logind or notification_daemon (what was called), PLUG-IN; it answers
with a line of JSON, and ends with its standard input.

bus_mocks.py FOLDER [--on-battery] [--refuse]
"""
import json
import os
import subprocess
import sys
import time

import dbus


def main():
    folder, options = sys.argv[1], sys.argv[2:]
    daemon = subprocess.Popen(["dbus-daemon", "--session", "--nofork", "--print-address=1", "--address=unix:path=%s/bus" % folder],
                              stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    address = daemon.stdout.readline().strip()
    environment = dict(os.environ, DBUS_SESSION_BUS_ADDRESS=address, DBUS_SYSTEM_BUS_ADDRESS=address)
    mocks = []
    for template in ("logind", "notification_daemon"):
        mocks.append(subprocess.Popen(["/usr/bin/python3", "-m", "dbusmock", "--session", "-t", template, "-l",
                                       "%s/%s.log" % (folder, template)], env=environment,
                                      stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL))
    bus = dbus.bus.BusConnection(address)
    for name in ("org.freedesktop.login1", "org.freedesktop.Notifications"):
        for _ in range(200):
            if bus.name_has_owner(name):
                break
            time.sleep(0.05)
    manager = bus.get_object("org.freedesktop.login1", "/org/freedesktop/login1")
    mock = dbus.Interface(manager, "org.freedesktop.DBus.Mock")
    mock.AddProperty("org.freedesktop.login1.Manager", "OnExternalPower", "--on-battery" not in options)
    if "--refuse" in options:
        refuse = 'raise dbus.exceptions.DBusException("the seat says no", name="org.freedesktop.login1.OperationInProgress")'
        for method in ("Suspend", "PowerOff"):
            mock.AddMethod("org.freedesktop.login1.Manager", method, "b", "", refuse)
    print(address, flush=True)
    for line in sys.stdin:
        word = line.strip()
        answer = None
        if word == "INHIBITORS":
            answer = [list(map(str, one)) for one in
                      dbus.Interface(manager, "org.freedesktop.login1.Manager").ListInhibitors()]
        elif word in ("logind", "notification_daemon"):
            with open("%s/%s.log" % (folder, word)) as file:
                answer = [one.strip().split(" ", 1)[1] for one in file if " " in one.strip()]
        elif word == "PLUG-IN":
            mock.UpdateProperties("org.freedesktop.login1.Manager", {"OnExternalPower": True})
        print(json.dumps(answer), flush=True)
    for process in mocks + [daemon]:
        process.kill()
        process.wait()


main()
