"""Memory as far as a record tells of it: bytes that were read, written, or known from the start."""

_PAGE = 256


class Memory:
    """Bytes by address; what nobody told of is not known."""

    def __init__(self) -> None:
        """Start knowing nothing."""
        self._pages: dict[int, tuple[bytearray, bytearray]] = {}

    def write(self, address: int, data: bytes) -> None:
        """Take over bytes."""
        at = 0
        while at < len(data):
            number, offset = divmod(address + at, _PAGE)
            size = min(_PAGE - offset, len(data) - at)
            page = self._pages.get(number)
            if page is None:
                page = self._pages[number] = bytearray(_PAGE), bytearray(_PAGE)
            page[0][offset : offset + size] = data[at : at + size]
            page[1][offset : offset + size] = b"\1" * size
            at += size

    def read(self, address: int, size: int) -> bytes | None:
        """Return bytes, None where one of them is not known."""
        number, offset = divmod(address, _PAGE)
        page = self._pages.get(number)
        if page is None:
            return None
        if offset + size <= _PAGE:
            if 0 in page[1][offset : offset + size]:
                return None
            return bytes(page[0][offset : offset + size])
        first = self.read(address, _PAGE - offset)
        rest = self.read(address + _PAGE - offset, size - (_PAGE - offset))
        return None if first is None or rest is None else first + rest

    def look(self, address: int, size: int) -> tuple[bytes, bytes]:
        """Return bytes, and for each whether it is known: 1, or 0 for one that is not."""
        data, known = bytearray(), bytearray()
        while len(data) < size:
            number, offset = divmod(address + len(data), _PAGE)
            part = min(_PAGE - offset, size - len(data))
            page = self._pages.get(number)
            data += page[0][offset : offset + part] if page else bytes(part)
            known += page[1][offset : offset + part] if page else bytes(part)
        return bytes(data), bytes(known)
