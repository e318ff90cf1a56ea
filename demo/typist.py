"""Answers a program's questions on a terminal: typist.py PROMPT ANSWER [PROMPT ANSWER ...] -- COMMAND...
An answer is typed once the output since the one before holds its prompt. Ends with the command, or waits after the
last answer "-"."""
import os
import pty
import sys
import time

cut = sys.argv.index("--")
talk, command = sys.argv[1:cut], sys.argv[cut + 1:]
pairs = list(zip(talk[::2], talk[1::2]))
child, terminal = pty.fork()
if child == 0:
    os.execvp(command[0], command)
seen = ""
while True:
    try:
        piece = os.read(terminal, 65536)
    except OSError:
        break
    if not piece:
        break
    os.write(1, piece)
    seen += piece.decode(errors="replace")
    if pairs and pairs[0][0] in seen:
        answer = pairs.pop(0)[1]
        seen = ""
        if answer == "-":
            break
        time.sleep(0.05)
        os.write(terminal, answer.encode() + b"\n")
