#!/usr/bin/env python3
"""Runs the commands that documents show. In ```console blocks, lines that start with "$ " are run in order by one shell
for the whole document; the lines after one are its output, standard error included, and "# exit N"
behind a command is its exit code when that is not 0. `<!-- run` comments hold commands that the reader does not see.

Numbers, sizes and times are not compared: drives and clocks differ. Must run in a mount namespace of its own."""
import os
import re
import shutil
import subprocess
import sys

KESTRUM = os.path.abspath(sys.argv[1])
ACCEPT = sys.argv[2] == "accept"
PROJECT = os.getcwd()


def masked(text):
    text = re.sub(r"[0-9a-f]{8,}", "#", text)
    text = re.sub(r"\d[\d.,:]*( (B|KiB|MiB|GiB|TiB|s|min|h|days?)\b)?", "#", text)
    text = re.sub(r"(# ?)+", "#", text)
    return [re.sub(r"[ -]+", " ", line).strip() for line in text.strip().split("\n")]


def plug_in(label, folder):
    """A drive of its own: ext4 on a loop device over memory, so that it shares no disk with anything."""
    image = "/dev/shm/kestrum-documents-%d-%s.img" % (os.getpid(), label)
    with open(image, "wb") as file:
        file.truncate(300 << 20)
    subprocess.run(["mkfs.ext4", "-q", "-L", label, image], check=True)
    os.makedirs(folder)
    subprocess.run(["mount", "-o", "loop", image, folder], check=True)
    os.remove(image)


mail_server = None


def begin_mail_server(folder):
    """mail.skerrypoint.example, with a certificate of its own: /etc/kestrum/mail-server.pem."""
    global mail_server
    if mail_server:
        mail_server.stdin.close()
        mail_server.wait()
    with open(folder + "/hosts", "w") as file:
        file.write("127.0.0.1 localhost mail.skerrypoint.example\n")
    subprocess.run(["mount", "--bind", folder + "/hosts", "/etc/hosts"], check=True)
    os.makedirs(folder + "/mail")
    mail_server = subprocess.Popen(["/usr/bin/python3", "-W", "ignore", PROJECT + "/tests/support/mail_server.py", folder + "/mail", "--tls", "starttls",
                                    "--port", "587", "--login", "office", "guillemot on the ledge"],
                                   stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    mail_server.stdout.readline()
    shutil.copy(folder + "/mail/certificate.pem", "/etc/kestrum/mail-server.pem")


def fresh_machine():
    """Empty places for the documents to play in, inside this mount namespace."""
    for folder in ["/srv", "/media", "/mnt", "/home", "/etc/kestrum", "/var/lib/kestrum"]:
        os.makedirs(folder, exist_ok=True)
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=256m", "tmpfs", folder], check=True)
    begin_mail_server("/mnt")
    plug_in("tern-1", "/media/tern-1")
    plug_in("tern-2", "/media/tern-2")


class Shell:
    def __init__(self):
        self.environment = {"PATH": os.path.dirname(KESTRUM) + ":/usr/sbin:/usr/bin:/sbin:/bin", "HOME": "/root", "TZ": "UTC", "LC_ALL": "C.UTF-8", "COLUMNS": "100",
                            "PROJECT": PROJECT, "KESTRUM_MACHINE": "skerry-1"}
        self.folder = "/srv"

    def run(self, command):
        """Gives output and exit code; keeps folder and exported variables for the next command."""
        script = command + "\nstatus=$?\n{ pwd; env -0; } >&9\nexit $status\n"
        keep_read, keep_write = os.pipe()
        done = subprocess.Popen(["bash", "-c", script.replace(">&9", ">&%d" % keep_write)], env=self.environment, cwd=self.folder,
                                stdout=subprocess.PIPE, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL, pass_fds=[keep_write], text=True)
        out, _ = done.communicate()
        os.close(keep_write)
        with os.fdopen(keep_read, "rb") as file:
            kept = file.read()
        if kept:
            folder, _, variables = kept.partition(b"\n")
            self.folder = os.fsdecode(folder)
            self.environment = dict(pair.split("=", 1) for pair in os.fsdecode(variables).split("\0") if "=" in pair)
        hidden = "kestrum: the clock is simulated"
        text = "".join(line + "\n" for line in out.splitlines() if not line.startswith(hidden))
        return text, done.returncode


def play(path):
    """Runs one document; gives its lines as they should be, and how many commands disagree."""
    shell = Shell()
    lines = open(path).read().split("\n")
    result, wrong, at = [], 0, 0
    while at < len(lines):
        line = lines[at]
        if line.startswith("<!-- run"):
            end = lines.index("-->", at)
            text, code = shell.run("\n".join(lines[at + 1:end]))
            if code != 0:
                print("%s:%d: hidden commands failed (%d)\n%s" % (path, at + 1, code, text))
                wrong += 1
            result += lines[at:end + 1]
            at = end + 1
        elif line.startswith("```console"):
            end = lines.index("```", at + 1)
            result.append(line)
            at += 1
            while at < end:
                assert lines[at].startswith("$ "), "%s:%d: a command should stand here" % (path, at + 1)
                begin = at
                command = lines[at][2:]
                at += 1
                while command.endswith("\\"):
                    command += "\n" + lines[at].lstrip("> ")
                    at += 1
                result += lines[begin:at]
                expected = []
                while at < end and not lines[at].startswith("$ "):
                    expected.append(lines[at])
                    at += 1
                stated = re.search(r"# exit (\d+)$", command)
                text, code = shell.run(command)
                if code != (int(stated.group(1)) if stated else 0):
                    print("%s:%d: exit %d: %s\n%s" % (path, begin + 1, code, command, text))
                    wrong += 1
                elif ACCEPT:
                    expected = text.rstrip("\n").split("\n") if text.strip() else []
                elif masked(text) != masked("\n".join(expected)):
                    print("%s:%d: %s\nsays:\n%s\nbut it prints:\n%s" % (path, begin + 1, command, "\n".join(expected), text))
                    wrong += 1
                result += expected
            result.append("```")
            at = end + 1
        else:
            result.append(line)
            at += 1
    return result, wrong


wrong = 0
for path in sys.argv[3:]:
    fresh_machine()
    lines, bad = play(path)
    wrong += bad
    if ACCEPT:
        with open(path, "w") as file:
            file.write("\n".join(lines))
print("%d of the documents' commands are not as they say" % wrong if wrong else "the documents' commands are as they say")
sys.exit(1 if wrong else 0)
