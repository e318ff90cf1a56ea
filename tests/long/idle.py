#!/usr/bin/env python3
"""What an agent with ten jobs costs while nothing is due: memory, processor time and wake-ups over ten minutes of real
time. idle.py KESTRUM [SECONDS]"""
import os
import subprocess
import sys
import tempfile
import time

kestrum = os.path.abspath(sys.argv[1])
seconds = int(sys.argv[2]) if len(sys.argv) > 2 else 600


def of_process(pid):
    with open(f"/proc/{pid}/stat") as file:
        fields = file.read().rsplit(")", 1)[1].split()
    with open(f"/proc/{pid}/status") as file:
        status = dict(line.split(":", 1) for line in file)
    ticks = os.sysconf("SC_CLK_TCK")
    switches = int(status["voluntary_ctxt_switches"])
    return (int(fields[11]) + int(fields[12])) / ticks, int(status["VmHWM"].split()[0]), int(status["VmRSS"].split()[0]), switches


with tempfile.TemporaryDirectory() as folder:
    environment = dict(os.environ, KESTRUM_HOME=folder + "/home", KESTRUM_MACHINE="skerry-1", TZ="UTC")
    os.makedirs(folder + "/source")
    with open(folder + "/source/list.csv", "w") as file:
        file.write("3,Gannet\n")
    # None of their times comes within the day.
    later = time.gmtime(time.time() + 3 * 86400)
    for number in range(10):
        os.makedirs(f"{folder}/drive-{number}")
        subprocess.run([kestrum, "job", "define", f"job-{number}", "--what-folders", folder + "/source", "--where-destinations",
                        f"{folder}/drive-{number}", "--same-disk", "--protect-encryption", "none", "--when-runs",
                        time.strftime("%A", later).lower() + f"s at 12:{10 + number}", "--when-warn-after", "30 days"],
                       env=environment, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    agent = subprocess.Popen([kestrum, "agent"], env=environment, stderr=subprocess.DEVNULL)
    time.sleep(3)
    before = of_process(agent.pid)
    time.sleep(seconds)
    after = of_process(agent.pid)
    agent.terminate()
    agent.wait()
    share = (after[0] - before[0]) / seconds * 100
    print(f"ten jobs, {seconds} s with nothing due")
    print(f"memory: {after[2] / 1024:.1f} MiB, at most {after[1] / 1024:.1f} MiB (wanted: under 30)")
    print(f"processor: {after[0] - before[0]:.2f} s, {share:.4f} % of one core (wanted: under 0.1)")
    print(f"wake-ups: {after[3] - before[3]}")
    if after[1] > 30 * 1024 or share > 0.1:
        sys.exit("more than wanted")
