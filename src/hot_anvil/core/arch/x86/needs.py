"""What a processor must have to execute an x86 instruction, and the standard levels by that.

Features go by the names that Linux gives them in /proc/cpuinfo. Sources: Intel 64 and IA-32
Architectures Software Developer's Manual, volume 2 (CPUID feature flag of each instruction);
"x86-64 psABI", 1.0, table 3.1 (levels). What no rule here names needs nothing that is known of.
"""

import re

from hot_anvil.core.arch.records import Needs
from hot_anvil.core.code.records import Instruction

_LEVELS: dict[str, frozenset[str]] = {
    "x86-64-v2": frozenset("cx16 lahf_lm popcnt pni sse4_1 sse4_2 ssse3".split()),
    "x86-64-v3": frozenset("avx avx2 bmi1 bmi2 f16c fma abm movbe xsave".split()),
    "x86-64-v4": frozenset("avx512f avx512bw avx512cd avx512dq avx512vl".split()),
}
# Code that asks for itself what the processor has.
_ASKS = re.compile(r"\bcpuid\b|__cpu_model|__cpu_features2|__cpu_indicator_init")

_EVEX = re.compile(r"%?zmm\d+|\{?%?\bk[0-7]\b|%?[xy]mm(?:1[6-9]|2\d|3[01])\b")
_WIDE = re.compile(r"%?zmm\d")
_YMM = re.compile(r"%?ymm\d")
_PLAIN = (
    ("bmi1", r"andn[lq]?|bextr[lq]?|bls(?:i|msk|r)[lq]?|tzcnt[wlq]?"),
    ("bmi2", r"bzhi[lq]?|mulx[lq]?|pdep[lq]?|pext[lq]?|rorx[lq]?|s(?:ar|hl|hr)x[lq]?"),
    ("abm", r"lzcnt[wlq]?"),
    ("popcnt", r"popcnt[wlq]?"),
    ("movbe", r"movbe[wlq]?"),
    ("adx", r"ad[co]x[lq]?"),
    ("aes", r"v?aes(?:enc|enclast|dec|declast|imc|keygenassist)"),
    ("pclmulqdq", r"v?pclmul\w*"),
    ("sha_ni", r"sha(?:1|256)\w+"),
    ("rdrand", r"rdrand[wlq]?"),
    ("rdseed", r"rdseed[wlq]?"),
    ("pni", r"addsubp[sd]|h(?:add|sub)p[sd]|lddqu|movddup|movs[hl]dup"),
    (
        "ssse3",
        r"pshufb|ph(?:add|sub)(?:w|d|sw)|pmaddubsw|pmulhrsw|psign[bwd]|palignr|pabs[bwd]",
    ),
    (
        "sse4_1",
        r"p(?:min|max)(?:sb|sd|uw|ud)|pmov[sz]x\w+|pmul(?:ld|dq)|pinsr[bdq]|pextr[bdq]|ptest"
        r"|round[ps][sd]|blend(?:v?p[sd])|pblend(?:w|vb)|dpp[sd]|insertps|extractps|packusdw"
        r"|pcmpeqq|mpsadbw|phminposuw|movntdqa",
    ),
    ("sse4_2", r"pcmpgtq|pcmp[ei]str[im]|crc32[bwlq]?"),
    ("fma", r"vfn?m(?:add|sub|addsub|subadd)\w+"),
    ("f16c", r"vcvtph2ps|vcvtps2ph"),
)
_FEATURES = tuple((name, re.compile(pattern)) for name, pattern in _PLAIN)
_OF_AVX2 = re.compile(
    r"vp(?:s[lr][la]v[dq]|gather\w+|broadcast[bwdq]|blendd|maskmov[dq]|erm(?:d|q|ps|pd|2i128))"
    r"|vgather\w+|vbroadcasti128|v(?:insert|extract)i128|vperm(?:d|q|ps|pd|2i128)"
)
_AVX_INTEGER = re.compile(r"vp(?:test|ermilp[sd]|erm2f128)|vperm(?:ilp[sd]|2f128)")
_OF_EVEX = tuple(
    (name, re.compile(pattern))
    for name, pattern in (
        ("avx512bw", r"vp(?:add|sub|min|max|abs|cmpu?|avg|mul|madd|sll|srl|sra|shuf|unpck|ack)\w*"
                     r"(?:b|w|bw|wb|ub|uw|sb|sw)|vmovdqu(?:8|16)|vpblendm[bw]|vpbroadcast[bw]"
                     r"|k\w+[dq]|vpmov(?:wb|swb|uswb|[bw]2m|m2[bw])|vps[lr]ldq|vpalignr"),
        ("avx512dq", r"vpmullq|vcvt\w*(?:qq|uqq)2?\w*|vcvt\w+2u?qq|v(?:and|andn|or|xor)p[sd]"
                     r"|v(?:insert|extract|broadcast)[fi](?:64x2|32x8|32x2)|vrange\w+|vreduce\w+"
                     r"|vfpclass\w+|vpmov[dq]2m|vpmovm2[dq]"),
        ("avx512cd", r"vpconflict[dq]|vplzcnt[dq]|vpbroadcastm\w+"),
        ("avx512vbmi", r"vperm(?:b|i2b|t2b)|vpmultishiftqb"),
        ("avx512_vbmi2", r"vpcompress[bw]|vpexpand[bw]|vpsh[lr]dv?[wdq]"),
        ("avx512_vnni", r"vpdp(?:bus|wss)ds?"),
        ("avx512_vpopcntdq", r"vpopcnt[dq]"),
        ("avx512_bitalg", r"vpopcnt[bw]|vpshufbitqmb"),
        ("avx512ifma", r"vpmadd52[lh]uq"),
        ("avx512_bf16", r"vcvtne\w+bf16|vdpbf16ps"),
        ("avx512_fp16", r"v\w+[ps]h"),
        ("gfni", r"vgf2p8\w+"),
    )
)  # fmt: skip
_HALF_CONVERSION = re.compile(r"vcvtph2ps|vcvtps2ph")


def _needs(instruction: Instruction) -> frozenset[str]:
    """Return the features that a processor lacks at its peril, of those that are known here."""
    mnemonic = instruction.mnemonic.split()[-1] if instruction.mnemonic else ""
    operands = ", ".join(instruction.operands)
    if mnemonic.startswith(("v", "k")) and (_EVEX.search(operands) or mnemonic.startswith("kmov")):
        return _of_evex(mnemonic, operands)
    found = {name for name, pattern in _FEATURES if pattern.fullmatch(mnemonic)}
    if mnemonic.startswith("v") and re.search(r"[xy]mm\d", operands):
        found.add("avx")
        integer = mnemonic.startswith("vp") and _YMM.search(operands)
        if _OF_AVX2.fullmatch(mnemonic) or (integer and not _AVX_INTEGER.fullmatch(mnemonic)):
            found.add("avx2")
    return frozenset(found)


def _of_evex(mnemonic: str, operands: str) -> frozenset[str]:
    found = {"avx512f"}
    scalar = re.fullmatch(r"v\w+s[sdh]|k\w+", mnemonic)
    if not _WIDE.search(operands) and not scalar:
        found.add("avx512vl")
    for name, pattern in _OF_EVEX:
        if pattern.fullmatch(mnemonic) and not _HALF_CONVERSION.fullmatch(mnemonic):
            found.add(name)
    return frozenset(found)


NEEDS = Needs(_needs, _ASKS, _LEVELS)
