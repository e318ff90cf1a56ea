#!/usr/bin/env python3
"""Pictures of the main commands in a terminal: screenshots.py KESTRUM FOLDER. Runs xterm under Xvfb."""
import os
import subprocess
import sys
import tempfile
import time

KESTRUM = os.path.abspath(sys.argv[1])
TARGET = os.path.abspath(sys.argv[2])
HERE = os.path.dirname(os.path.abspath(__file__))
DISPLAY = ":87"


def picture(name, script, desk, wait_for_end=True, seconds=0.0):
    """Types `script` (shell lines shown with a prompt) into a terminal and takes its picture."""
    ready = os.path.join(desk, "ready")
    if os.path.exists(ready):
        os.unlink(ready)
    play = os.path.join(desk, "play.sh")
    with open(play, "w") as file:
        file.write("cd %s\n" % desk)
        for line in script:
            if line.startswith("!"):  # not shown
                file.write(line[1:] + "\n")
                continue
            file.write("printf '\\033[1mtechnician@skerry-1:~$\\033[0m %%s\\n' %s\n" % repr(line))
            file.write(line + " 2> >(grep --line-buffered -v 'clock is simulated' >&2)\n" if wait_for_end else line + "\n")
            file.write("sleep 0.2\n")
        file.write("touch %s\nsleep 60\n" % ready)
    environment = dict(os.environ, DISPLAY=DISPLAY, TZ="UTC", LC_ALL="C.UTF-8", PATH=os.path.dirname(KESTRUM) + ":" + os.environ["PATH"],
                       KESTRUM_HOME="/etc/kestrum", KESTRUM_MACHINE="skerry-1")
    terminal = subprocess.Popen(["xterm", "-fa", "DejaVu Sans Mono", "-fs", "11", "-geometry", "139x41+0+0", "-bg", "#fbfaf7", "-fg", "#22262b",
                                 "-b", "12", "+sb", "-e", "bash", play], env=environment)
    end = time.monotonic() + 60
    while wait_for_end and not os.path.exists(ready) and time.monotonic() < end:
        time.sleep(0.1)
    time.sleep(seconds or 0.4)
    subprocess.run(["import", "-window", "root", os.path.join(TARGET, name + ".png")], env=environment, check=True)
    terminal.terminate()
    terminal.wait()
    print(name)


def years(desk):
    """A job that has run for weeks: its chains, what goes, what comes."""
    environment = dict(os.environ, KESTRUM_HOME="/etc/kestrum", KESTRUM_MACHINE="skerry-1", TZ="UTC", PATH=os.path.dirname(KESTRUM) + ":" + os.environ["PATH"])

    def kestrum(when, *words):
        environment["KESTRUM_NOW"] = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(when))
        subprocess.run([KESTRUM, *words], env=environment, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    begin = 1803931200 + 1800  # 2027-03-01 20:30
    kestrum(begin - 7200, "job", "define", "lists", "--what-folders", "/srv", "--what-folders", "/home/isla/Pictures", "--where-destinations", "/media/tern-1",
            "--when-runs", "daily at 20:30", "--how-renew", "first run of a month", "--keep-thin", "every point for 14 days",
            "--keep-thin", "one a week for 2 months", "--keep-thin", "one a month for 1 year", "--protect-passphrase", "file:/etc/kestrum/wardens.pass")
    for day in range(46):
        with open("/srv/ringing/2027/2027-02-01.csv", "a") as file:
            file.writelines("SP99%02d%02d,Arctic Tern,4,271,112.5,H,14:20\n" % (day, n) for n in range(30 + 20 * (day % 7 == 5)))
        if day % 3 == 0:
            with open("/home/isla/Pictures/count-%02d.jpg" % day, "wb") as file:
                file.write(os.urandom((40 + 30 * (day % 4)) << 10))
        kestrum(begin + day * 86400, "run", "lists")
    now = "!export -n KESTRUM_CLOCK; unset KESTRUM_CLOCK; export KESTRUM_NOW=2027-04-16T09:00:00Z"
    after = begin + 45 * 86400 + 12 * 3600
    picture("prune", [now, "kestrum job edit lists --keep-age '10 days' --usual keep-thin", "kestrum prune lists --dry"], desk)
    kestrum(after, "job", "edit", "lists", "--usual", "keep-age", "--keep-thin", "every point for 14 days", "--keep-thin", "one a week for 2 months",
            "--keep-thin", "one a month for 1 year")
    picture("forecast", [now, "kestrum forecast lists --days 120"], desk)
    kestrum(after, "points", "lists", "--figure", os.path.join(desk, "chains-figure.png"))
    kestrum(after, "forecast", "lists", "--days", "180", "--quiet", "--figure", os.path.join(desk, "forecast-figure.png"))
    kestrum(after, "report", "lists", "--to", os.path.join(desk, "lists.html"))
    kestrum(after, "job", "remove", "lists")


def shoot(desk, page, size):
    """A page as a browser shows it."""
    shot = os.path.join(desk, page + ".png")
    browser = ["chromium", "--headless=old", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
               "--disable-component-update", "--disable-sync", "--hide-scrollbars", "--user-data-dir=" + os.path.join(desk, "browser")]
    subprocess.run(browser + ["--window-size=" + size, "--screenshot=" + shot, "file://" + os.path.join(desk, page + ".html")], check=True,
                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return shot


def page_pictures(desk):
    """One job's page on a desk, all jobs' on a telephone."""
    shots = [shoot(desk, "lists", "1280,800"), shoot(desk, "office", "380,800")]
    subprocess.run(["/usr/bin/convert", *shots, "+append", os.path.join(TARGET, "report.png")], check=True)


def on_time(desk):
    """Four jobs and their agent: one good, one that waits for its drive, two late."""
    home = os.path.join(desk, "office")
    clock = os.path.join(desk, "clock")
    environment = dict(os.environ, KESTRUM_HOME=home, KESTRUM_MACHINE="skerry-1", TZ="UTC", KESTRUM_CLOCK="file:" + clock)

    def set_clock(moment):
        with open(clock + ".new", "w") as file:
            file.write("%s,1,%.6f\n" % (moment, time.monotonic()))
        os.rename(clock + ".new", clock)

    def kestrum(*words):
        subprocess.run([KESTRUM, *words], env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    set_clock("2027-03-01T08:00:00Z")
    for name, folder, where, more in (
            ("lists", "/srv/ringing", "/media/tern-1/lists", ["--when-runs", "daily at 12:30", "--when-warn-after", "2 days"]),
            ("photos", "/home/isla/Pictures", "label:tern-9", ["--when-runs", "daily at 12:30"]),
            ("tracks", "/home/magnus", "/media/tern-1/tracks", ["--when-runs", "weekdays at 18:00", "--when-if-missed", "skip"]),
            ("mail", "/home/isla/Mail", "/media/tern-1/mail", ["--when-runs", "daily at 12:45", "--when-warn-after", "1 day"])):
        if where.startswith("/"):
            os.makedirs(where)
        key = ["--protect-passphrase", "file:/etc/kestrum/wardens.pass"] if name != "mail" else ["--protect-passphrase", "file:" + desk + "/mail.pass"]
        if name == "mail":
            with open(os.open(desk + "/mail.pass", os.O_CREAT | os.O_WRONLY, 0o600), "w") as file:
                file.write("terns over the pier\n")
        kestrum("job", "define", name, "--what-folders", folder, "--where-destinations", where, *more, *key)
    for day in ("01", "02", "03"):
        set_clock("2027-03-%sT12:46:00Z" % day)
        kestrum("run", "--due")
        if day != "03":
            set_clock("2027-03-%sT18:01:00Z" % day)
            kestrum("run", "--due")
        if day == "02":
            os.remove(desk + "/mail.pass")
    # The machine was off in the evening of the third; the agent comes up the next morning.
    set_clock("2027-03-04T09:00:00Z")
    agent = subprocess.Popen([KESTRUM, "agent"], env=environment, stderr=subprocess.DEVNULL)
    time.sleep(1)
    set_clock("2027-03-04T12:46:00Z")
    time.sleep(2)
    set_clock("2027-03-04T14:00:00Z")
    time.sleep(1)
    here = "!export KESTRUM_HOME=%s KESTRUM_CLOCK=file:%s" % (home, clock)
    picture("on-time", [here, "kestrum status"], desk)
    picture("schedule", [here, "kestrum pause lists --for '1 day'", "kestrum schedule --days 3"], desk)
    picture("history", [here, "kestrum history"], desk)
    kestrum("report", "--to", os.path.join(desk, "office.html"))
    agent.terminate()
    agent.wait()


def damage(desk):
    """A drill while all is well; then a sector goes, and what it held is mended."""
    environment = dict(os.environ, KESTRUM_HOME="/etc/kestrum", KESTRUM_MACHINE="skerry-1", TZ="UTC", KESTRUM_CLOCK="2027-03-04T10:00:00Z,1")
    now = "!export KESTRUM_CLOCK=2027-03-09T09:30:00Z,1"

    def kestrum(*words):
        subprocess.run([KESTRUM, *words], env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    page = os.path.join(desk, "drill.html")
    picture("drill", [now, "kestrum drill wardens --files 60 --with /srv/ringing --rebuild --page " + page], desk)
    subprocess.run(["/usr/bin/convert", shoot(desk, "drill", "1280,800"), os.path.join(TARGET, "drill-page.png")], check=True)
    kestrum("job", "edit", "wardens", "--protect-parity", "5%")
    kestrum("repair", "wardens", "--add-parity", "--quiet")
    kestrum("verify", "wardens", "--quiet")
    environment["KESTRUM_CLOCK"] = "2027-03-09T09:30:00Z,1"
    spoil = "!dd if=/dev/urandom of=$(ls /media/tern-1/skerry-1/wardens/000001_*/data-001.kvol) bs=4096 seek=30 count=3 conv=notrunc status=none"
    picture("verify", [now, spoil, "kestrum verify wardens --quiet"], desk)
    kestrum("verify", "wardens", "--known", "--quiet", "--figure", os.path.join(desk, "damage-figure.png"))
    picture("repair", [now, "kestrum repair wardens --dry", "kestrum repair wardens", "kestrum points wardens"], desk)
    figures = [os.path.join(desk, name + "-figure.png") for name in ("chains", "forecast", "preview", "damage")]
    subprocess.run(["/usr/bin/montage", *figures, "-tile", "2x2", "-geometry", "960x600+4+4", os.path.join(TARGET, "figures.png")], check=True)


def main():
    os.makedirs(TARGET, exist_ok=True)
    server = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        with tempfile.TemporaryDirectory(prefix="wardens-") as desk:
            # Places of our own, in a mount namespace of our own (see scripts/screenshots).
            for folder in ["/srv", "/home", "/media", "/etc/kestrum"]:
                os.makedirs(folder, exist_ok=True)
                subprocess.run(["mount", "-t", "tmpfs", "-o", "size=2g", "tmpfs", folder], check=True)
            subprocess.run([sys.executable, os.path.join(HERE, "make_data.py"), "/"], check=True)
            # A drive of its own: ext4 over memory, so that it shares no disk with anything.
            image = "/dev/shm/kestrum-screenshots-%d.img" % os.getpid()
            with open(image, "wb") as file:
                file.truncate(2 << 30)
            subprocess.run(["mkfs.ext4", "-q", "-L", "tern-1", image], check=True)
            os.makedirs("/media/tern-1")
            subprocess.run(["mount", "-o", "loop", image, "/media/tern-1"], check=True)
            os.remove(image)
            with open("/etc/kestrum/accounts", "w") as file:
                file.write("isla:x:1000:1000::/home/isla:/bin/bash\nmagnus:x:1001:1001::/home/magnus:/bin/bash\n")
            with open(os.open("/etc/kestrum/wardens.pass", os.O_CREAT | os.O_WRONLY, 0o600), "w") as file:
                file.write("grey seal under the pier\n")
            time.sleep(4)
            first = "!export KESTRUM_CLOCK=2027-03-01T18:00:00Z,1"
            second = "!export KESTRUM_CLOCK=2027-03-02T18:00:00Z,1"
            third = "!export KESTRUM_CLOCK=2027-03-04T09:30:00Z,1"
            picture("preview", [first, "!kestrum job define wardens --what-folders /srv --what-folders /home --where-destinations /media/tern-1 --protect-passphrase file:/etc/kestrum/wardens.pass >/dev/null 2>&1",
                                "kestrum preview wardens"], desk)
            subprocess.run(["kestrum", "preview", "wardens", "--quiet", "--figure", os.path.join(desk, "preview-figure.png")], check=True,
                           stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                           env=dict(os.environ, KESTRUM_HOME="/etc/kestrum", KESTRUM_MACHINE="skerry-1", PATH=os.path.dirname(KESTRUM) + ":" + os.environ["PATH"]))
            typist = "!clear; python3 %s/typist.py " % HERE
            asked = ["Your choice", "4", "Numbers of the kinds", "1 2 5 6", "Whose homes", "everybody", "Another folder", "/srv/ringing", "Another folder", "",
                     "Leave out besides", "*.part", "Leave out besides", ""]
            rest = ["A number, or a folder", "label:tern-1", "Encrypt the sets", "", "The passphrase is", "1", "File [", "/etc/kestrum/wardens.pass",
                    "Your choice", "1", "File for its secret part", "/srv/office", "Keep it there", "y", "Your choice", "1", "When [", "weekdays at 12:30", "And when else", "first sunday at 03:00 full",
                    "And when else", "", "When a run was missed", "1", "Your choice", "1", "How much of the drive", "", "Command before", "", "Command after", "",
                    "Mail about", "office@skerrypoint.example", "What now", "-"]
            quoted = lambda words: " ".join("'%s'" % word for word in words)
            accounts = "!export KESTRUM_ACCOUNTS=/etc/kestrum/accounts"
            picture("define-summary", [first, accounts, typist + quoted(asked + rest) + " -- kestrum job define people"], desk)
            picture("run", [first, "kestrum run wardens", second, "!echo 'SP999001,Arctic Tern,4,271,112.5,H,14:20' >> /srv/ringing/2027/2027-02-01.csv; mv /srv/moths /srv/moth-traps; cp /home/isla/Pictures/north-beach-01.png /home/isla/Pictures/again.png",
                            "kestrum run wardens"], desk)
            picture("restore", [third, "!rm /srv/ringing/2027/2027-01-30.csv; kestrum run wardens --quiet >/dev/null 2>&1", "kestrum browse wardens /home/isla --at 1", "kestrum find wardens 2027-01-3",
                                "kestrum restore wardens /srv/ringing/2027/2027-01-30.csv --at 2027-03-01 --to /srv/back"], desk)
            picture("versions", [third, "kestrum versions wardens 2027-02-01.csv", "kestrum compare wardens --at 1 --with 2",
                                 "kestrum compare wardens /srv/ringing/2027/2027-02-01.csv --at 1 --with 2"], desk)
            picture("picker", [third, "!clear; python3 %s/keys.py '\\x1b[B' '\\r' '\\x1b[B' '\\r' '\\x1b[B' ' ' '\\x1b[A' '\\r' '\\r' '\\x1b[B' ' ' ' ' -- kestrum restore wardens" % HERE], desk)
            picture("points", [third, "!kestrum run wardens --kind differential --quiet >/dev/null 2>&1", "kestrum points wardens"], desk)
            picture("status", [third, "kestrum status", "kestrum history wardens", "kestrum history wardens --run 2"], desk)
            on_time(desk)
            years(desk)
            page_pictures(desk)
            damage(desk)
    finally:
        server.terminate()


main()
