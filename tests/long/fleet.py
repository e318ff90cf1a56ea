"""Five hundred days of a fleet of forty jobs on ten machines, and the mail that the technician gets: with the settings that ship as
the usual ones, real runs under a simulated clock, and a real mail server. fleet.py KESTRUM [DAYS]"""
import collections
import datetime
import json
import os
import random
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor

KESTRUM = os.path.abspath(sys.argv[1])
DAYS = int(sys.argv[2]) if len(sys.argv) > 2 else 500
SUPPORT = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "support")
JOBS = ["lists", "photos", "recordings", "mail"]
BEGIN = datetime.date(2027, 3, 1)


class Machine:
    """Four jobs a day. Its drive is at home for some days each second month, a folder is moved away until somebody looks, and now
    and then one of a job's folders is not there for a day."""

    def __init__(self, folder, number, port):
        self.name, self.random = "skerry-%d" % number, random.Random(number)
        self.folder = os.path.join(folder, self.name)
        self.away = self.bad_evenings = 0
        self.broken, self.partly = {}, {}
        os.makedirs(self.path("drive"))
        self.environment = {"PATH": "/usr/bin:/bin", "TZ": "UTC", "LC_ALL": "C.UTF-8", "KESTRUM_MACHINE": self.name, "KESTRUM_HOME": self.path("home")}
        self.now(BEGIN, "08:00")
        self("settings", "set", "--mail-server", "127.0.0.1:%d" % port, "--mail-security", "none", "--mail-to", "office@skerrypoint.example")
        for job in JOBS:
            for part in ("a", "b"):
                os.makedirs(self.path("%s-%s" % (job, part)))
                with open(self.path("%s-%s/list" % (job, part)), "w") as file:
                    file.write("0\n")
            self("job", "define", job, "--what-folders", self.path(job + "-a"), "--what-folders", self.path(job + "-b"), "--where-destinations",
                 self.path("drive"), "--same-disk", "--protect-encryption", "none", "--when-runs", "daily at 12:30")

    def path(self, name):
        return os.path.join(self.folder, name)

    def now(self, day, clock):
        self.environment["KESTRUM_NOW"] = "%sT%s:00Z" % (day, clock)

    def __call__(self, *words):
        return subprocess.run([KESTRUM, *words], env=self.environment, capture_output=True, text=True)

    def move(self, name, away):
        there, elsewhere = self.path(name), self.path(name + ".away")
        os.rename(there if away else elsewhere, elsewhere if away else there)

    def live(self, day):
        if self.away == 0 and self.random.random() < 1 / 60:
            self.away = self.random.randint(1, 9)
            self.move("drive", True)
        for job in JOBS:
            if job not in self.broken and job not in self.partly:
                if self.random.random() < 1 / 150:
                    self.broken[job] = self.random.randint(1, 4)
                    self.move(job + "-a", True)
                    self.move(job + "-b", True)
                elif self.random.random() < 1 / 40:
                    self.partly[job] = 1
                    self.move(job + "-b", True)
            if os.path.exists(self.path(job + "-a")):
                with open(self.path(job + "-a/list"), "a") as file:
                    file.write("%s\n" % day)
        self.now(day, "12:30")
        self("run", "--due", "--quiet")
        self.now(day, "20:30")
        self("tell")
        status = json.loads(self("status", "--json").stdout) if day.toordinal() % 10 == 0 else None
        if status:
            self.bad_evenings += sum(1 for job in status["jobs"] if job["trouble"])
        if self.away:
            self.away -= 1
            if self.away == 0:
                self.move("drive", False)
        for job, left in list(self.broken.items()):
            self.broken[job] = left - 1
            if left == 1:
                del self.broken[job]
                self.move(job + "-a", False)
                self.move(job + "-b", False)
        for job in list(self.partly):
            del self.partly[job]
            self.move(job + "-b", False)


def kind_of(subject):
    text = subject.split(": ", 1)[1]
    for words, kind in (("need a look", "several jobs need a look"), ("needs a look", "a job needs a look"), ("good again", "good again")):
        if words in text:
            return kind
    return text


def main():
    with tempfile.TemporaryDirectory(prefix="kestrum-fleet-", dir="/dev/shm") as folder:
        box = os.path.join(folder, "box")
        os.makedirs(box)
        server = subprocess.Popen(["/usr/bin/python3", os.path.join(SUPPORT, "mail_server.py"), box], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        port = int(server.stdout.readline())
        machines = [Machine(folder, number, port) for number in range(1, 11)]
        by_day = []
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            for number in range(DAYS):
                before = len(os.listdir(box))
                list(pool.map(lambda machine: machine.live(BEGIN + datetime.timedelta(days=number)), machines))
                by_day.append(len(os.listdir(box)) - before)
        mails = json.loads(subprocess.run(["/usr/bin/python3", os.path.join(SUPPORT, "read_mails.py"), box], capture_output=True, check=True).stdout)
        assert len(mails) == sum(by_day) and not any(mail["defects"] for mail in mails)
        ids = {mail["id"] for mail in mails}
        assert len(ids) == len(mails), "a mail came twice"
        print("%d days, 10 machines, 40 jobs that run daily: %d mails to the technician, %.2f a day" % (DAYS, len(mails), len(mails) / DAYS))
        print("days without a mail: %d; the most in one: %d; a month: %.0f" % (by_day.count(0), max(by_day), len(mails) / DAYS * 30))
        for kind, count in collections.Counter(kind_of(mail["subject"]) for mail in mails).most_common(8):
            print("  %5d  %s" % (count, kind))
        print("job evenings in trouble, by every tenth day: %.1f %%; the longest mail has %d lines" %
              (100 * sum(machine.bad_evenings for machine in machines) / (DAYS / 10) / 40, max(mail["text"].count("\n") for mail in mails)))
        for mail in mails[:: max(1, len(mails) // 8)][:8]:
            print("    " + mail["subject"])
        server.stdin.close()
        server.wait()


main()
