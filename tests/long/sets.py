#!/usr/bin/env python3
"""What the number of sets costs a run: sets.py KESTRUM. A run that saves one changed file, of a job with 10 sets and of
one with 400, in turns; the median of each, and their ratio, which should be at most 2."""
import datetime
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time

KESTRUM = os.path.abspath(sys.argv[1])
FEW, MANY, PAIRS = 10, 400, 21


class Job:
    def __init__(self, folder, protection):
        self.source, self.hours = os.path.join(folder, "source"), 0
        for path in (self.source, os.path.join(folder, "drive")):
            os.makedirs(path)
        passphrase = os.path.join(folder, "pass")
        with open(os.open(passphrase, os.O_CREAT | os.O_WRONLY, 0o600), "w") as file:
            file.write("tern in the fog\n")
        self.environment = dict(os.environ, KESTRUM_HOME=os.path.join(folder, "home"), KESTRUM_MACHINE="skerry-1", TZ="UTC")
        for number in range(50):
            self.write("list-%d" % number, "ringed %d\n" % number * 200)
        self.kestrum("job", "define", "wardens", "--what-folders", self.source, "--where-destinations", os.path.join(folder, "drive"),
                     "--same-disk", "--keep-points", "2000 points", *(["--protect-encryption", "none"] if protection == "none" else
                                                                      ["--protect-passphrase", "file:" + passphrase]))

    def write(self, name, text):
        with open(os.path.join(self.source, name), "w") as file:
            file.write(text)

    def kestrum(self, *words):
        when = datetime.datetime(2027, 1, 1, 20, 30) + datetime.timedelta(hours=self.hours)
        self.environment["KESTRUM_NOW"] = when.strftime("%FT%TZ")
        begin = time.monotonic()
        ran = subprocess.run([KESTRUM, *words], env=self.environment, capture_output=True, text=True)
        if ran.returncode != 0:
            raise SystemExit("%s: exit %d\n%s" % (" ".join(words), ran.returncode, ran.stderr))
        return time.monotonic() - begin

    def run(self):
        self.hours += 1
        self.write("list-0", "hour %d\n" % self.hours)
        return self.kestrum("run", "wardens", "--quiet")


status = 0
for protection in ("none", "AES-256-GCM"):
    folder = tempfile.mkdtemp()
    try:
        jobs = [Job(os.path.join(folder, name), protection) for name in ("few", "many")]
        for job, sets in zip(jobs, (FEW, MANY)):
            for _ in range(sets):
                job.run()
        times = [[], []]
        for _ in range(PAIRS):
            for job, seconds in zip(jobs, times):
                seconds.append(job.run())
        few, many = map(statistics.median, times)
        print("encryption %s: a run on %d to %d sets %.3f s, on %d to %d sets %.3f s: %.2f times"
              % (protection, FEW, FEW + PAIRS - 1, few, MANY, MANY + PAIRS - 1, many, many / few), flush=True)
        status = status or many > 2 * few
    finally:
        shutil.rmtree(folder)
sys.exit(status)
