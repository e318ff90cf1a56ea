"""How much a run is noticed: a compiler beside a run with little effort, and whether speed limits are kept.

beside.py BIN [--pairs N]: pairs of the same compilation alone and beside a run, in turns, so that whatever else the machine
does meets both; the median of their ratios counts. Then the bytes of ten seconds of runs with limits."""
import argparse
import os
import shutil
import statistics
import subprocess
import tempfile
import time

HERE = os.path.dirname(os.path.abspath(__file__))
SOURCE = os.path.join(HERE, "..", "src")


class Desk:
    def __init__(self, kestrum, folder):
        self.kestrum, self.folder = kestrum, folder
        self.environment = dict(os.environ, KESTRUM_HOME=os.path.join(folder, "home"), KESTRUM_MACHINE="skerry-1", TZ="UTC")
        os.makedirs(self.path("source"))
        os.makedirs(self.path("drive"))
        # Half of it compresses, as files do.
        with open(self.path("source/recordings.wav"), "wb") as file:
            for _ in range(3 << 10):
                file.write(os.urandom(512 << 10) + bytes(range(256)) * (2 << 10))

    def path(self, name):
        return os.path.join(self.folder, name)

    def __call__(self, *words):
        subprocess.run([self.kestrum, *words], env=self.environment, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def define(self, *more):
        shutil.rmtree(self.path("home"), ignore_errors=True)
        shutil.rmtree(self.path("drive"))
        os.makedirs(self.path("drive"))
        self("job", "define", "wardens", "--what-folders", self.path("source"), "--where-destinations", self.path("drive"), "--same-disk",
             "--protect-encryption", "none", "--keep-points", "1 point", "--keep-at-least", "1 point", *more)

    def start(self):
        return subprocess.Popen([self.kestrum, "run", "wardens", "--kind", "full", "--quiet"], env=self.environment, stdout=subprocess.DEVNULL,
                                stderr=subprocess.DEVNULL)


def compile_once():
    """As many compilers as there are processors, so that none is left over for the run."""
    files = ["plan/keep_plan.cpp", "plan/forecast.cpp", "calendar/phrase_parser.cpp", "plan/fold_model.cpp"]
    includes = ["-I" + SOURCE]
    begun = time.monotonic()
    for _ in range(2):
        running = [subprocess.Popen(["g++", "-std=c++20", "-O2", "-c", os.path.join(SOURCE, files[i % len(files)]), "-o", "/dev/null", *includes],
                                    stderr=subprocess.PIPE) for i in range(os.cpu_count())]
        for one in running:
            _, said = one.communicate()
            assert one.returncode == 0, said.decode()[:500]
    return time.monotonic() - begun


class Keeping:
    """Runs one after the other, as long as it is wanted."""

    def __init__(self, desk):
        self.desk, self.run, self.runs = desk, desk.start(), 1
        time.sleep(1)

    def goes(self):
        if self.run.poll() is not None:
            self.run, self.runs = self.desk.start(), self.runs + 1
        return self.run

    def end(self):
        self.run.terminate()
        self.run.wait()


def beside(desk, effort, pairs):
    desk.define("--how-effort", effort)
    ratios, alone_times, beside_times = [], [], []
    compile_once()
    for number in range(pairs):
        times = {}
        for beside_run in ([False, True] if number % 2 == 0 else [True, False]):
            keeping = Keeping(desk) if beside_run else None
            times[beside_run] = compile_once()
            if keeping:
                assert keeping.run.poll() is None, "the run ended before the compiler did: more data is needed"
                keeping.end()
        alone_times.append(times[False])
        beside_times.append(times[True])
        ratios.append(times[True] / times[False])
    print("compiling beside a run with effort %s: median %.3f times as long as alone (%d pairs, %.3f to %.3f; alone %.2f s, beside %.2f s)" %
          (effort, statistics.median(ratios), pairs, min(ratios), max(ratios), statistics.median(alone_times), statistics.median(beside_times)), flush=True)


def counted(pid, what):
    with open("/proc/%d/io" % pid) as file:
        return int(dict(line.strip().split(": ") for line in file)[what])


def limited(desk, key, what, limit):
    desk.define("--how-" + key, "%d MiB/s" % limit, "--how-compression", "fast", "--how-effort", "all", "--check-after-run", "nothing")
    run = desk.start()
    time.sleep(3)
    begun, first = time.monotonic(), counted(run.pid, what)
    time.sleep(10)
    passed, last = time.monotonic() - begun, counted(run.pid, what)
    run.terminate()
    run.wait()
    speed = (last - first) / passed / (1 << 20)
    print("%s %d MiB/s: %.2f MiB/s over %.1f s, %+.1f %%" % (key, limit, speed, passed, (speed / limit - 1) * 100), flush=True)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("bin")
    parser.add_argument("--pairs", type=int, default=9)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="kestrum-beside-") as folder:
        if shutil.disk_usage(folder).free < 10 << 30:
            raise SystemExit("10 GiB of free disk are needed in " + folder)
        desk = Desk(os.path.abspath(os.path.join(options.bin, "kestrum")), folder)
        for key, what in (("read-limit", "rchar"), ("write-limit", "wchar")):
            for limit in (5, 20):
                limited(desk, key, what, limit)
        for effort in ("low", "normal"):
            beside(desk, effort, options.pairs)


main()
