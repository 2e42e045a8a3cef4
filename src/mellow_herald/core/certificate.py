"""Chains of certificates (PEM, X.509) as an update carries them: dates, who issued whom, and where the chain ends."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from mellow_herald.core.refusal import Refused

LARGEST = 64 * 1024
LONGEST_CHAIN = 8
PRIVATE = b"PRIVATE KEY-----"


@dataclass(frozen=True, slots=True)
class Chain:
    """Certificates, the device's own first, each issued by the next."""

    certificates: tuple[x509.Certificate, ...]

    @property
    def name(self) -> str:
        """Whom the first one is for."""
        return self.certificates[0].subject.rfc4514_string()

    @property
    def begins(self) -> datetime:
        """From when all of them are good."""
        return max(one.not_valid_before_utc for one in self.certificates)

    @property
    def ends(self) -> datetime:
        """Until when all of them are good."""
        return min(one.not_valid_after_utc for one in self.certificates)

    @property
    def public_key(self) -> bytes:
        """The public key that the first one is for, DER."""
        return spki(self.certificates[0])


def spki(certificate: x509.Certificate) -> bytes:
    """A certificate's public key: SubjectPublicKeyInfo, DER."""
    return certificate.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)


def read_chain(data: bytes) -> Chain:
    """Reads a chain; raises ``Refused`` for what is none, or holds a private key."""
    if PRIVATE in data:
        raise Refused(
            "private-key",
            "the file holds a private key, and everybody who gets the update would have it.",
            "Take it out and make a new one: a device's key is made on the device and stays there.",
        )
    if len(data) > LARGEST:
        raise Refused("too-large", f"a certificate file of {len(data)} bytes; at most {LARGEST} are taken.")
    try:
        certificates = x509.load_pem_x509_certificates(data)
        chain = Chain(tuple(certificates))
        for one in certificates:
            spki(one)
    except Exception as error:  # the reader has many, and all say that this is no chain
        raise Refused("bad-certificate", f"this is no PEM certificate chain ({error}).", "Pass a PEM file.") from None
    if not 0 < len(certificates) <= LONGEST_CHAIN:
        raise Refused("bad-certificate", f"a chain has 1 to {LONGEST_CHAIN} certificates, not {len(certificates)}.")
    return chain


def read_trusted(pem: str) -> list[x509.Certificate]:
    """The certificates in which chains may end; raises ``Refused`` for what are none."""
    try:
        return x509.load_pem_x509_certificates(pem.encode())
    except ValueError as error:
        raise Refused(
            "bad-certificate", f"these are no PEM certificates ({error}).", "Pass what chains are to end at."
        ) from None


def ends_at(chain: Chain, roots: Sequence[x509.Certificate]) -> str | None:
    """Why a chain does not end at one of these roots, None if it does. Dates are another question."""
    above = [*chain.certificates[1:]]
    for number, one in enumerate(chain.certificates[:-1], 1):
        if not _issued(one, above[number - 1]):
            return f"certificate {number} was not issued by the one after it"
        if not _may_issue(above[number - 1]):
            return f"certificate {number + 1} ({above[number - 1].subject.rfc4514_string()}) may not issue others"
    last = chain.certificates[-1]
    if any(spki(last) == spki(root) and last.subject == root.subject for root in roots):
        return None
    if any(_issued(last, root) for root in roots):
        return None
    trusted = ", ".join(root.subject.rfc4514_string() for root in roots)
    return f"it ends at {last.issuer.rfc4514_string()}, which is not trusted there (trusted: {trusted})"


def _issued(one: x509.Certificate, by: x509.Certificate) -> bool:
    try:
        one.verify_directly_issued_by(by)
    except (ValueError, TypeError, InvalidSignature):
        return False
    return True


def _may_issue(one: x509.Certificate) -> bool:
    try:
        return one.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
    except (x509.ExtensionNotFound, ValueError):
        return False
