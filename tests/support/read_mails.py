"""Reads what mail_server.py took with Python's own parser: one JSON list, in the order in which it came."""
import email
import email.policy
import glob
import json
import sys

mails = []
for path in sorted(glob.glob(sys.argv[1] + "/*.mail")):
    with open(path) as file:
        taken = json.load(file)
    message = email.message_from_bytes(taken["message"].encode("latin-1"), policy=email.policy.default)
    parts = {part.get_content_type(): part for part in message.walk() if not part.is_multipart()}
    defects = [str(defect) for part in message.walk() for defect in part.defects]
    defects += [str(defect) for _, value in message.items() for defect in getattr(value, "defects", [])]
    longest = max(len(line) for line in taken["message"].split("\r\n"))
    mails.append({"from": taken["from"], "to": taken["to"], "tls": taken["tls"], "login": taken["login"],
                  "subject": message["Subject"], "header-to": message["To"], "header-from": message["From"],
                  "id": message["Message-ID"], "date": message["Date"], "type": message.get_content_type(),
                  "types": list(parts), "defects": defects, "longest-line": longest,
                  "text": parts["text/plain"].get_content() if "text/plain" in parts else "",
                  "html": parts["text/html"].get_content() if "text/html" in parts else ""})
json.dump(mails, sys.stdout)
