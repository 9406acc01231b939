"""A certificate for the proxy of our own browser, made anew with each: it stands for any server, and no other browser trusts it.

The browser is told its key (``--ignore-certificate-errors-spki-list``), so that it names no server.
"""

from __future__ import annotations

import base64
import hashlib
import ssl
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path


def made() -> tuple[ssl.SSLContext, str]:
    """The certificate of the proxy, and the SHA-256 of its key in base64, by which the browser trusts it."""
    # Loaded with the first browser: the command line starts without it.
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.x509.oid import NameOID

    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Jetwind's own browser")])
    now = datetime.now(UTC)
    built = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
    built = built.serial_number(x509.random_serial_number()).not_valid_before(now - timedelta(days=1))
    signed = built.not_valid_after(now + timedelta(days=365)).sign(key, hashes.SHA256())
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.TemporaryDirectory(prefix="jetwind-certificate-") as folder:
        file = Path(folder) / "own.pem"
        file.touch(mode=0o600)
        private = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
        file.write_bytes(private + signed.public_bytes(serialization.Encoding.PEM))
        context.load_cert_chain(file)
    public = key.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    return context, base64.b64encode(hashlib.sha256(public).digest()).decode()
