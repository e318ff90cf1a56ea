"""A mail server for tests, on a loopback port that it prints: what it takes lies in a folder, a file a mail.

mail_server.py FOLDER [--tls starttls|from-the-beginning] [--login NAME PASSWORD] [--refuse ADDRESS]
               [--does take|refuse|hang|break-off] [--port PORT]

The certificate that it shows is FOLDER/certificate.pem. FOLDER/does, where it is there, says what it does with
the next mails instead.
"""
import argparse
import asyncio
import datetime
import ipaddress
import json
import os
import ssl
import sys
import threading
import time

from aiosmtpd.smtp import SMTP, AuthResult, LoginPassword


def make_certificate(folder):
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "localhost")])
    now = datetime.datetime.utcnow()
    certificate = (x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
                   .serial_number(1).not_valid_before(now - datetime.timedelta(days=1))
                   .not_valid_after(now + datetime.timedelta(days=2))
                   .add_extension(x509.SubjectAlternativeName(
                       [x509.DNSName("localhost"), x509.DNSName("mail.skerrypoint.example"), x509.IPAddress(ipaddress.ip_address("127.0.0.1"))]), False)
                   .add_extension(x509.BasicConstraints(True, None), True)
                   .sign(key, hashes.SHA256()))
    with open(folder + "/certificate.pem", "wb") as file:
        file.write(certificate.public_bytes(serialization.Encoding.PEM))
    with open(folder + "/key.pem", "wb") as file:
        file.write(key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8,
                                     serialization.NoEncryption()))
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(folder + "/certificate.pem", folder + "/key.pem")
    return context


class Handler:
    def __init__(self, options):
        self.options = options
        self.count = 0

    def does(self):
        try:
            with open(self.options.folder + "/does") as file:
                return file.read().strip()
        except FileNotFoundError:
            return self.options.does

    async def handle_RCPT(self, server, session, envelope, address, rcpt_options):
        if self.does() == "hang":
            await asyncio.sleep(3600)
        if address == self.options.refuse:
            return "550 5.1.1 there is nobody of that name"
        envelope.rcpt_tos.append(address)
        return "250 2.1.5 OK"

    async def handle_DATA(self, server, session, envelope):
        does = self.does()
        if does == "refuse":
            return "554 5.7.1 this is not taken"
        if does == "break-off":
            server.transport.abort()
            return "421 4.3.0 gone"
        self.count += 1
        place = "%s/%d-%04d" % (self.options.folder, time.time_ns(), self.count)
        with open(place + ".part", "w") as file:
            json.dump({"from": envelope.mail_from, "to": envelope.rcpt_tos, "tls": server.transport.get_extra_info("ssl_object") is not None,
                       "login": bool(session.authenticated),
                       "message": envelope.content.decode("latin-1")}, file)
        os.rename(place + ".part", place + ".mail")
        return "250 2.0.0 queued as %d" % self.count


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("folder")
    parser.add_argument("--tls")
    parser.add_argument("--login", nargs=2)
    parser.add_argument("--refuse")
    parser.add_argument("--does", default="take")
    parser.add_argument("--port", type=int, default=0)
    options = parser.parse_args()
    context = make_certificate(options.folder) if options.tls else None
    starttls = context if options.tls == "starttls" else None

    def authenticate(server, session, envelope, mechanism, data):
        good = isinstance(data, LoginPassword) and [data.login.decode(), data.password.decode()] == options.login
        return AuthResult(success=good, handled=False)

    handler = Handler(options)

    def protocol():
        return SMTP(handler, hostname="localhost", tls_context=starttls, require_starttls=starttls is not None,
                    authenticator=authenticate if options.login else None, auth_required=options.login is not None,
                    auth_require_tls=starttls is not None)

    loop = asyncio.new_event_loop()
    server = loop.run_until_complete(
        loop.create_server(protocol, "127.0.0.1", options.port,
                           ssl=context if options.tls == "from-the-beginning" else None))
    print(server.sockets[0].getsockname()[1], flush=True)
    threading.Thread(target=end_with_parent, daemon=True).start()
    loop.run_forever()


def end_with_parent():
    sys.stdin.read()
    os._exit(0)


if __name__ == "__main__":
    main()
