"""Certificates for the stand-ins: made on the spot, signed by themselves."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID


def make_certificate(
    file: Path,
    *names: str,
    days: int = 365,
    age_days: int = 10,
    issuer: tuple[x509.Certificate, ec.EllipticCurvePrivateKey] | None = None,
) -> tuple[x509.Certificate, ec.EllipticCurvePrivateKey]:
    """Write a key and a certificate for `names` into one PEM file. Negative `days`: it has expired."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, names[0])])
    now = datetime.now(UTC)
    until = now + timedelta(days=days)
    authority = issuer is None and days > 3000
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer[0].subject if issuer else subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(min(now, until) - timedelta(days=age_days))
        .not_valid_after(until)
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name) for name in names]), critical=False)
        .add_extension(x509.BasicConstraints(ca=authority, path_length=None), critical=True)
        .sign(issuer[1] if issuer else key, hashes.SHA256())
    )
    text = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()) + made.public_bytes(Encoding.PEM)
    file.touch(mode=0o600)
    file.write_bytes(text + (issuer[0].public_bytes(Encoding.PEM) if issuer else b""))
    return made, key
