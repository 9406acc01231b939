"""Certificates, made when the practice field starts: those of an authority of its own, a good one and some wrong ones."""

from __future__ import annotations

import base64
import hashlib
import ssl
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from jetwind.engines.practice.directory import DOMAIN, EXPIRED, OTHER_DOMAIN, OTHER_NAME, STRANGER

AUTHORITY = "authority.pem"
#: The SHA-256 of the good certificate's public key, in base64: what a browser is told to trust (RFC 7469 §2.4 for the form).
TRUSTED_KEY = "trusted-key"


@dataclass(frozen=True, slots=True)
class _Issuer:
    key: ec.EllipticCurvePrivateKey
    certificate: x509.Certificate


def contexts(folder: Path) -> tuple[ssl.SSLContext, dict[str, ssl.SSLContext]]:
    """The context for all names, and those for the names whose certificate is wrong. Writes ``authority.pem`` into the folder.

    Certificates of the run before are made anew: none lasts longer than a practice field does.
    """
    folder.mkdir(parents=True, exist_ok=True)
    authority = _authority("Jetwind practice field")
    (folder / AUTHORITY).write_bytes(authority.certificate.public_bytes(serialization.Encoding.PEM))
    good = [f"*.{DOMAIN}", DOMAIN, f"*.{OTHER_DOMAIN}", OTHER_DOMAIN]
    wrong = {
        EXPIRED: _context(folder, "expired", [EXPIRED], authority, ends=timedelta(days=-3)),
        STRANGER: _context(folder, "stranger", [STRANGER], _authority("Nobody's authority")),
        OTHER_NAME: _context(folder, "misnamed", [f"elsewhere.{OTHER_DOMAIN}"], authority),
    }
    return _context(folder, "good", good, authority), wrong


def _named(name: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])


def _builder(subject: str, issuer: str, key: ec.EllipticCurvePrivateKey, ends: timedelta) -> x509.CertificateBuilder:
    now = datetime.now(UTC)
    return (
        x509.CertificateBuilder()
        .subject_name(_named(subject))
        .issuer_name(_named(issuer))
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=30))
        .not_valid_after(now + ends)
    )


def _authority(name: str) -> _Issuer:
    key = ec.generate_private_key(ec.SECP256R1())
    usage = x509.KeyUsage(
        digital_signature=False,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        key_cert_sign=True,
        crl_sign=True,
        encipher_only=False,
        decipher_only=False,
    )
    built = (
        _builder(name, name, key, timedelta(days=365))
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(usage, critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
    )
    return _Issuer(key, built.sign(key, hashes.SHA256()))


def _context(folder: Path, name: str, hosts: list[str], issuer: _Issuer, ends: timedelta = timedelta(days=90)) -> ssl.SSLContext:
    key = ec.generate_private_key(ec.SECP256R1())
    issued_by = str(issuer.certificate.subject.get_attributes_for_oid(NameOID.COMMON_NAME)[0].value)
    built = (
        _builder(hosts[0], issued_by, key, ends)
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(host) for host in hosts]), critical=False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(issuer.key.public_key()), critical=False)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
    )
    signed = built.sign(issuer.key, hashes.SHA256())
    file = folder / f"{name}.pem"
    file.touch(mode=0o600)
    file.write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
        + signed.public_bytes(serialization.Encoding.PEM)
    )
    if name == "good":
        public = key.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
        (folder / TRUSTED_KEY).write_text(base64.b64encode(hashlib.sha256(public).digest()).decode())
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(file)
    return context
