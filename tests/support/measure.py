#!/usr/bin/env python3
"""measure.py RESULT COMMAND...: runs the command and writes its exit code, seconds, peak memory (KiB) and the bytes it
read by system calls to RESULT, as JSON. A process of its own: a child's peak memory counts from its parent's size."""
import json
import os
import subprocess
import sys
import time

begin = time.monotonic()
process = subprocess.Popen(sys.argv[2:])
os.waitid(os.P_PID, process.pid, os.WEXITED | os.WNOWAIT)
try:
    with open("/proc/%d/io" % process.pid) as file:
        read = int(file.readline().split()[1])
except OSError:
    read = -1
_, status, usage = os.wait4(process.pid, 0)
with open(sys.argv[1], "w") as file:
    json.dump({"exit": os.waitstatus_to_exitcode(status), "seconds": time.monotonic() - begin, "memory": usage.ru_maxrss, "read": read}, file)
