"""What instruction sets have in common in how their code is written."""


def without_linkage(text: str) -> str:
    """Return operands without the mark of a call through the linker's table."""
    if "(PLT)" in text:
        return text.replace("(PLT)", "")
    return text.replace("@plt", "") if "@plt" in text else text


def keep_text(text: str, comment: str, name: str) -> str:
    """Return a disassembled instruction as it is: names stand in it already."""
    return text
