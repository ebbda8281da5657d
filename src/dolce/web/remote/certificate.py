"""A certificate made here, so that a phone keeps its screen awake; known by its fingerprint, not by a name."""

import ipaddress
import os
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

_DAYS = 2  # as long as a visit; another one is made at every start


@dataclass(frozen=True, slots=True, kw_only=True)
class Certificate:
    """Files of a certificate and its key, and the SHA-256 of it as pairs of digits."""

    certificate: Path
    key: Path
    fingerprint: str


def make_certificate(folder: Path, address: str) -> Certificate:
    """A self-signed certificate for an address, elliptic curve P-256; the key is readable by its user alone."""
    folder.mkdir(mode=0o700, exist_ok=True)
    key, now = ec.generate_private_key(ec.SECP256R1()), datetime.now(UTC)
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Dolce on this network")])
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(hours=1))
        .not_valid_after(now + timedelta(days=_DAYS))
        .add_extension(x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address(address))]), critical=False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    found = Certificate(
        certificate=folder / "certificate.pem",
        key=folder / "key.pem",
        fingerprint=made.fingerprint(hashes.SHA256()).hex(":").upper(),
    )
    found.certificate.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    found.key.unlink(missing_ok=True)
    with os.fdopen(os.open(found.key, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "wb") as file:
        file.write(
            key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
    return found
