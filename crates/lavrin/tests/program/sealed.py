"""Opens and makes sealed files for an Ed25519 key, by the description of the format (C2SP, age.md and the ssh-ed25519 recipient of
the reference implementation), with Python's cryptography and PyNaCl: shares no code with the program that is tested.

    sealed.py open PRIVATE SEALED >PLAIN
    sealed.py make PUBLIC PLAIN >SEALED
"""
import base64
import os
import sys
from cryptography.hazmat.primitives import hashes, hmac, serialization
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from nacl.bindings import crypto_sign_ed25519_pk_to_curve25519

LABEL = b"age-encryption.org/v1/ssh-ed25519"
BEGIN, END = "-----BEGIN AGE ENCRYPTED FILE-----", "-----END AGE ENCRYPTED FILE-----"


def b64(data):
    return base64.b64encode(data).rstrip(b"=")


def unb64(text):
    return base64.b64decode(text + b"=" * (-len(text) % 4))


def derive(secret, salt, info):
    return HKDF(hashes.SHA256(), 32, salt, info).derive(secret)


def multiply(scalar, point):
    return X25519PrivateKey.from_private_bytes(scalar).exchange(X25519PublicKey.from_public_bytes(point))


def public_parts(public):
    raw = public.public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
    line = public.public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
    return base64.b64decode(line.split()[1]), crypto_sign_ed25519_pk_to_curve25519(raw)


def digest(data):
    hashed = hashes.Hash(hashes.SHA256())
    hashed.update(data)
    return hashed.finalize()


def wrap_key(shared, wire, epk, point):
    tweak = derive(b"", wire, LABEL)
    return derive(multiply(tweak, shared), epk + point, LABEL)


def mac(file_key, header):
    signed = hmac.HMAC(derive(file_key, b"", b"header"), hashes.SHA256())
    signed.update(header)
    return b64(signed.finalize())


# One chunk: what is sealed here is far below 64 KiB.
LAST = b"\0" * 11 + b"\1"


def open_file(private, text):
    data = base64.b64decode("".join(text.replace(BEGIN, "").replace(END, "").split()))
    end = data.index(b"\n---")
    signed, rest = data[: end + 4], data[end + 5 :]
    told, payload = rest.split(b"\n", 1)
    wire, point = public_parts(private.public_key())
    secret = private.private_bytes(serialization.Encoding.Raw, serialization.PrivateFormat.Raw, serialization.NoEncryption())
    hashed = hashes.Hash(hashes.SHA512())
    hashed.update(secret)
    scalar = hashed.finalize()[:32]
    lines = signed.split(b"\n")
    for at, line in enumerate(lines):
        words = line.split(b" ")
        if words[:2] != [b"->", b"ssh-ed25519"] or unb64(words[2]) != digest(wire)[:4]:
            continue
        epk = unb64(words[3])
        key = wrap_key(multiply(scalar, epk), wire, epk, point)
        file_key = ChaCha20Poly1305(key).decrypt(b"\0" * 12, unb64(lines[at + 1]), None)
        assert mac(file_key, signed) == told.strip(), "the header was altered"
        return ChaCha20Poly1305(derive(file_key, payload[:16], b"payload")).decrypt(LAST, payload[16:], None)
    raise SystemExit("sealed for others")


def make_file(public, plain):
    wire, point = public_parts(public)
    ephemeral, file_key, nonce = X25519PrivateKey.generate(), os.urandom(16), os.urandom(16)
    epk = ephemeral.public_key().public_bytes(serialization.Encoding.Raw, serialization.PublicFormat.Raw)
    key = wrap_key(ephemeral.exchange(X25519PublicKey.from_public_bytes(point)), wire, epk, point)
    body = ChaCha20Poly1305(key).encrypt(b"\0" * 12, file_key, None)
    header = b"age-encryption.org/v1\n-> ssh-ed25519 " + b64(digest(wire)[:4]) + b" " + b64(epk) + b"\n" + b64(body) + b"\n---"
    sealed = ChaCha20Poly1305(derive(file_key, nonce, b"payload")).encrypt(LAST, plain, None)
    text = base64.b64encode(header + b" " + mac(file_key, header) + b"\n" + nonce + sealed).decode()
    lines = [text[at : at + 64] for at in range(0, len(text), 64)]
    return "\n".join([BEGIN, *lines, END, ""])


if sys.argv[1] == "open":
    private = serialization.load_ssh_private_key(open(sys.argv[2], "rb").read(), None)
    sys.stdout.buffer.write(open_file(private, open(sys.argv[3]).read()))
else:
    public = serialization.load_ssh_public_key(open(sys.argv[2], "rb").read())
    sys.stdout.write(make_file(public, open(sys.argv[3], "rb").read()))
