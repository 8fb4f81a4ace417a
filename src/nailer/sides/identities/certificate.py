"""Certificates of servers: what they say, and why one is not trusted by itself (RFC 5280, RFC 9525).

A certificate that an authority vouches for, for the name that was dialled, needs no question. Any other is shown to the
person with its doubts, and may be pinned like a host key.
"""

from __future__ import annotations

import hashlib
import ssl
import warnings
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from ipaddress import ip_address

import certifi
from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID
from cryptography.x509.verification import (
    Criticality,
    ExtensionPolicy,
    Policy,
    PolicyBuilder,
    Store,
    VerificationError,
)

from nailer.errors import InvalidInput
from nailer.sides.identities.identity import Identity

CERTIFICATE = "certificate"


@dataclass(frozen=True, slots=True)
class CertificateFacts:
    """What a certificate says of itself. `names` are the names it is for; times are UTC."""

    subject: str
    issuer: str
    names: tuple[str, ...]
    not_before: datetime
    not_after: datetime
    key: str
    own_issuer: bool
    signature: str


def identity_of_certificate(der: bytes) -> Identity:
    """The identity a certificate stands for: the SHA-256 of the whole, in hexadecimal as hosts publish it."""
    digest = hashlib.sha256(der).hexdigest().upper()
    spelled = ":".join(digest[at : at + 2] for at in range(0, len(digest), 2))
    pem = x509.load_der_x509_certificate(der).public_bytes(Encoding.PEM).decode()
    return Identity(CERTIFICATE, f"SHA256:{spelled}", pem)


def identity_of_pem(text: str) -> Identity:
    """The identity behind a certificate in PEM. Raises InvalidInput."""
    try:
        return identity_of_certificate(x509.load_pem_x509_certificate(text.encode()).public_bytes(Encoding.DER))
    except ValueError as error:
        raise InvalidInput("This is not a certificate.") from error


def facts_of(pem: str) -> CertificateFacts:
    """What a certificate in PEM says. Raises InvalidInput."""
    try:
        found = x509.load_pem_x509_certificate(pem.encode())
    except ValueError as error:
        raise InvalidInput("This is not a certificate.") from error
    return CertificateFacts(
        subject=_shown(found.subject),
        issuer=_shown(found.issuer),
        names=_names(found),
        not_before=found.not_valid_before_utc,
        not_after=found.not_valid_after_utc,
        key=_key(found),
        own_issuer=found.subject == found.issuer,
        signature=found.signature_hash_algorithm.name if found.signature_hash_algorithm else "none",
    )


def doubts_of(chain: list[bytes], host: str, now: datetime) -> tuple[str, ...]:
    """Why a server's certificate is not trusted by itself, each as a sentence; none: an authority vouches for it.

    `chain` is what the server showed, its own certificate first, in DER.
    """
    leaf = x509.load_der_x509_certificate(chain[0])
    doubts = []
    names = _names(leaf)
    if not _is_for(leaf, host):
        named = ", ".join(names[:4]) or "no name at all"
        doubts.append(f"It is for another name: {named}. You asked for {host}.")
    if now > leaf.not_valid_after_utc:
        doubts.append(f"It expired on {leaf.not_valid_after_utc:%d %B %Y}.")
    if now < leaf.not_valid_before_utc:
        doubts.append(f"It is not valid before {leaf.not_valid_before_utc:%d %B %Y}.")
    if leaf.subject == leaf.issuer:
        doubts.append("The certificate is self-signed; no authority has confirmed it.")
    else:
        # Name and time were judged: who vouches for it is asked for a name and a time that are its own.
        own = names[0].replace("*.", "any.", 1) if names and doubts else host
        within = min(max(now, leaf.not_valid_before_utc), leaf.not_valid_after_utc)
        doubts += _chain_doubts(leaf, chain, own, within)
    return tuple(doubts)


def _chain_doubts(leaf: x509.Certificate, chain: list[bytes], host: str, now: datetime) -> list[str]:
    between = [x509.load_der_x509_certificate(one) for one in chain[1:]]
    try:
        subject: x509.IPAddress | x509.DNSName = x509.IPAddress(ip_address(host))
    except ValueError:
        subject = x509.DNSName(host)
    policies = {"ca_policy": _authority_policy(), "ee_policy": _server_policy()}
    try:
        builder = PolicyBuilder().store(authorities()).time(now).extension_policies(**policies)
        builder.build_server_verifier(subject).verify(leaf, between)
    except (VerificationError, UnsupportedAlgorithm, InvalidSignature, ValueError) as error:
        return [
            (
                f"{_shown(leaf.issuer)} signed it, but this authority is unknown to Nailer's machine, or the "
                f"certificate chain is broken ({error})."
            )
        ]
    return []


def _authority_policy() -> ExtensionPolicy:
    """What an authority's certificate must say: that it is one, and where it says what its key is for, that it may sign
    others. Authorities that firms and hosts made themselves often do not say the latter (RFC 5280, 4.2.1.3)."""

    def _is_authority(_: Policy, __: x509.Certificate, said: x509.BasicConstraints) -> None:
        if not said.ca:
            raise ValueError("a certificate in the chain does not belong to an authority")

    def _may_sign(_: Policy, __: x509.Certificate, said: x509.KeyUsage | None) -> None:
        if said is not None and not said.key_cert_sign:
            raise ValueError("an authority's key is not for signing others")

    policy = ExtensionPolicy.permit_all()
    policy = policy.require_present(x509.BasicConstraints, Criticality.AGNOSTIC, _is_authority)
    return policy.may_be_present(x509.KeyUsage, Criticality.AGNOSTIC, _may_sign)


def _server_policy() -> ExtensionPolicy:
    """What a server's own certificate must say: for which names it is, and where it says what it is for, that it is for
    servers (RFC 5280, 4.2.1.12)."""

    def _for_servers(_: Policy, __: x509.Certificate, said: x509.ExtendedKeyUsage | None) -> None:
        fitting = {ExtendedKeyUsageOID.SERVER_AUTH, ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE}
        if said is not None and not fitting & set(said):
            raise ValueError("the certificate is not for servers")

    policy = ExtensionPolicy.permit_all()
    policy = policy.require_present(x509.SubjectAlternativeName, Criticality.AGNOSTIC, None)
    return policy.may_be_present(x509.ExtendedKeyUsage, Criticality.AGNOSTIC, _for_servers)


@lru_cache(maxsize=1)
def authorities() -> Store:
    """The authorities that ship with Nailer, and those this machine's owner has added. Reads files the first time."""
    with warnings.catch_warnings():
        # Some authorities are older than the rules for serial numbers; that is no fault of the server's.
        warnings.simplefilter("ignore")
        known = x509.load_pem_x509_certificates(certifi.contents().encode())
        for der in ssl.create_default_context().get_ca_certs(binary_form=True):
            try:
                known.append(x509.load_der_x509_certificate(der))
            except ValueError:
                continue  # a machine's own bundle may hold what this library does not read
    return Store(known)


def names_of(pem: str) -> tuple[str, ...]:
    """The plain host names a certificate is for: candidates for the server's right name."""
    return tuple(name for name in facts_of(pem).names if "*" not in name and not name[0].isdigit())


def _is_for(found: x509.Certificate, host: str) -> bool:
    """RFC 9525, 6.3: exact names, and one star in place of the leftmost label."""
    wanted = host.lower().rstrip(".")
    for name in _names(found):
        name = name.lower().rstrip(".")
        if name == wanted:
            return True
        if name.startswith("*.") and wanted.partition(".")[2] == name[2:] and "." in name[2:]:
            return True
    return False


def _names(found: x509.Certificate) -> tuple[str, ...]:
    try:
        listed = found.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except (x509.ExtensionNotFound, ValueError):
        common = found.subject.get_attributes_for_oid(NameOID.COMMON_NAME)
        return tuple(str(one.value) for one in common)
    dns = [str(one) for one in listed.get_values_for_type(x509.DNSName)]
    return tuple(dns + [str(one) for one in listed.get_values_for_type(x509.IPAddress)])


def _shown(name: x509.Name) -> str:
    for wanted in (NameOID.COMMON_NAME, NameOID.ORGANIZATION_NAME):
        if found := name.get_attributes_for_oid(wanted):
            return str(found[0].value)
    return name.rfc4514_string() or "issuer not named"


def _key(found: x509.Certificate) -> str:
    key = found.public_key()
    if isinstance(key, rsa.RSAPublicKey):
        return f"RSA, {key.key_size} bits"
    if isinstance(key, ec.EllipticCurvePublicKey):
        return f"ECDSA, {key.curve.name}"
    if isinstance(key, ed25519.Ed25519PublicKey | ed448.Ed448PublicKey):
        return "Ed25519" if isinstance(key, ed25519.Ed25519PublicKey) else "Ed448"
    return "another kind"
