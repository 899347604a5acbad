"""The shop's own certificate authority, and the certificate of its bench: made once, renewed by themselves, kept in the
data folder and part of no backup.

X.509 version 3 (RFC 5280), ECDSA on P-256; what browsers ask of a server's certificate: names and addresses as
subject alternative names, no more than 397 days (CA/Browser Forum, Baseline Requirements, 6.3.2).
"""

from __future__ import annotations

import hashlib
import ipaddress
import os
import socket
import ssl
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from gatecheck.adapters.durable_file import durable, write_durably
from gatecheck.server.announce import addresses
from gatecheck.store import StoreError

FOLDER = "tls"
_AUTHORITY, _BENCH = "authority", "bench"
_AUTHORITY_DAYS, _DAYS, _RENEW_DAYS = 3650, 397, 30
_CONSONANTS, _VOWELS = "bdfghjklmnprstvz", "aiou"
_WORDS = 6


@dataclass(frozen=True, slots=True)
class _Pair:
    """A certificate with its key."""

    key: ec.EllipticCurvePrivateKey
    certificate: x509.Certificate


def own_hosts(host: str) -> tuple[str, ...]:
    """Every name and address under which this machine's server may be asked for."""
    name = socket.gethostname().split(".")[0].lower()
    names = {"localhost", name, f"{name}.local", socket.gethostname().lower()} - {"", ".local"}
    return (*sorted(names), "127.0.0.1", "::1", *sorted(addresses(host)))


class BenchTls:
    """`hosts`: names and addresses that the certificate is for. Raises StoreError where the folder cannot be used."""

    def __init__(self, data: Path, shop: str, hosts: Iterable[str]) -> None:
        self.folder, self.shop, self.hosts = data / FOLDER, shop, tuple(dict.fromkeys(hosts))
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            self.folder.chmod(0o700)
            self._authority = self._read(_AUTHORITY) or self._made_authority()
            self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            self.context.minimum_version = ssl.TLSVersion.TLSv1_2
            self._own = self._read(_BENCH)
            self.refresh()
        except (OSError, ValueError) as error:
            raise StoreError(
                f"{self.folder}: expected the bench's certificates, or room to make them, got {error}"
            ) from error

    def refresh(self, now: datetime | None = None, hosts: Iterable[str] | None = None) -> bool:
        """A new certificate where there is none that lasts another month for these names and this authority; later
        connections get it. Was one made?"""
        self.hosts = tuple(dict.fromkeys(hosts)) if hosts is not None else self.hosts
        at = now or datetime.now(UTC)
        fresh = self._own is None or not self._fits(self._own.certificate, at)
        if fresh:
            self._own = self._made_own(at)
        self.context.load_cert_chain(self.folder / f"{_BENCH}.pem", self.folder / f"{_BENCH}.key")
        return fresh

    @property
    def authority_pem(self) -> bytes:
        return self._authority.certificate.public_bytes(Encoding.PEM)

    @property
    def fingerprint(self) -> str:
        """SHA-256 of the authority's certificate, as systems show it: pairs of hex digits with colons."""
        return ":".join(f"{b:02X}" for b in self._digest())

    @property
    def words(self) -> str:
        """The beginning of the fingerprint as sounds that can be read out: five letters for 16 bits (proquints, D.
        Wilkerson, 2009)."""
        raw = self._digest()
        return " ".join(_quint(int.from_bytes(raw[at : at + 2], "big")) for at in range(0, 2 * _WORDS, 2))

    @property
    def pin(self) -> str:
        """SHA-256 of the bench's public key, base64 (RFC 7469, 2.4): what a start line names."""
        import base64

        assert self._own is not None
        key = self._own.key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
        return base64.b64encode(hashlib.sha256(key).digest()).decode()

    def _digest(self) -> bytes:
        return self._authority.certificate.fingerprint(hashes.SHA256())

    def _fits(self, own: x509.Certificate, at: datetime) -> bool:
        if own.not_valid_after_utc - at < timedelta(days=_RENEW_DAYS) or own.not_valid_before_utc > at:
            return False
        if own.issuer != self._authority.certificate.subject:
            return False
        try:
            own.verify_directly_issued_by(self._authority.certificate)
            names = own.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        except (ValueError, TypeError, x509.ExtensionNotFound):
            return False
        return set(self.hosts) <= {str(n.value) for n in names}

    def _read(self, name: str) -> _Pair | None:
        """Raises ValueError for files that are none."""
        key, certificate = self.folder / f"{name}.key", self.folder / f"{name}.pem"
        if not key.exists() or not certificate.exists():
            return None
        private = serialization.load_pem_private_key(key.read_bytes(), None)
        if not isinstance(private, ec.EllipticCurvePrivateKey):
            raise ValueError(f"{key.name}: a key of another kind")
        found = x509.load_pem_x509_certificate(certificate.read_bytes())
        if found.public_key() != private.public_key():
            raise ValueError(f"{key.name} and {certificate.name} do not belong together")
        return _Pair(private, found)

    def _keep(self, name: str, pair: _Pair, chain: bytes = b"") -> _Pair:
        raw = pair.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        place = self.folder / f"{name}.key"
        if not place.exists() or place.read_bytes() != raw:
            with durable(place) as file:
                os.fchmod(file.fileno(), 0o600)
                file.write(raw)
        write_durably(self.folder / f"{name}.pem", pair.certificate.public_bytes(Encoding.PEM) + chain)
        return pair

    def _made_authority(self) -> _Pair:
        key, at = ec.generate_private_key(ec.SECP256R1()), datetime.now(UTC)
        mark = os.urandom(3).hex().upper()
        subject = x509.Name(
            [
                x509.NameAttribute(NameOID.ORGANIZATION_NAME, self.shop[:60] or "Gate Check"),
                x509.NameAttribute(NameOID.COMMON_NAME, f"Gate Check bench authority {mark}"),
            ]
        )
        made = (
            x509.CertificateBuilder()
            .subject_name(subject)
            .issuer_name(subject)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(at - timedelta(days=1))
            .not_valid_after(at + timedelta(days=_AUTHORITY_DAYS))
            .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
            .add_extension(_usage(is_authority=True), critical=True)
            .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
            .sign(key, hashes.SHA256())
        )
        return self._keep(_AUTHORITY, _Pair(key, made))

    def _made_own(self, at: datetime) -> _Pair:
        """The same key as before, where there is one: what pins it goes on."""
        key = self._own.key if self._own is not None else ec.generate_private_key(ec.SECP256R1())
        made = (
            x509.CertificateBuilder()
            .subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, self.hosts[0][:60])]))
            .issuer_name(self._authority.certificate.subject)
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(at - timedelta(days=1))
            .not_valid_after(min(at + timedelta(days=_DAYS - 1), self._authority.certificate.not_valid_after_utc))
            .add_extension(x509.SubjectAlternativeName([_general(h) for h in self.hosts]), critical=False)
            .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
            .add_extension(_usage(is_authority=False), critical=True)
            .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
            .add_extension(
                x509.AuthorityKeyIdentifier.from_issuer_public_key(self._authority.key.public_key()), critical=False
            )
            .sign(self._authority.key, hashes.SHA256())
        )
        return self._keep(_BENCH, _Pair(key, made), self.authority_pem)


def _usage(*, is_authority: bool) -> x509.KeyUsage:
    return x509.KeyUsage(
        digital_signature=not is_authority,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        key_cert_sign=is_authority,
        crl_sign=is_authority,
        encipher_only=False,
        decipher_only=False,
    )


def _general(host: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(host))
    except ValueError:
        return x509.DNSName(host)


def _quint(number: int) -> str:
    """16 bits as consonant, vowel, consonant, vowel, consonant."""
    return (
        _CONSONANTS[number >> 12]
        + _VOWELS[number >> 10 & 3]
        + _CONSONANTS[number >> 6 & 15]
        + _VOWELS[number >> 4 & 3]
        + _CONSONANTS[number & 15]
    )
