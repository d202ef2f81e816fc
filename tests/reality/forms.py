"""Instructions that are run in earnest, to compare with what the tool says that they compute."""

from collections.abc import Iterator

CONDITIONS_X86 = "o no b ae e ne be a s ns l ge le g".split()
CONDITIONS_ARM = "eq ne cs cc mi pl vs vc hi ls ge lt gt le".split()


def x86() -> Iterator[str]:
    """Give instructions on rax, rbx, rcx and rdx, with memory at rsi."""
    for width, a, b in (
        ("b", "al", "bl"),
        ("w", "ax", "bx"),
        ("l", "eax", "ebx"),
        ("q", "rax", "rbx"),
    ):
        a, b = f"%{a}", f"%{b}"
        for name in "mov add sub adc sbb cmp test and or xor xchg".split():
            yield f"{name}{width} {b},{a}"
        for name in "not neg inc dec mul imul div idiv".split():
            yield f"{name}{width} {b}"
        for name in "shl shr sar rol ror".split():
            yield from (f"{name}{width} {n}{a}" for n in ("%cl,", "$3,", "", "$9,"))
        yield from (
            f"add{width} $-5,{a}", f"add{width} {b},(%rsi)", f"sub{width} 1(%rsi),{a}",
            f"neg{width} 3(%rsi)", f"adc{width} $-1,2(%rsi)", f"cmp{width} $7,(%rsi)",
        )  # fmt: skip
        if width != "b":
            names = "imul bt bsf bsr tzcnt lzcnt popcnt cmovl".split()
            yield from (f"{name}{width} {b},{a}" for name in names)
            yield from (f"bt{c}{width} $5,{a}" for c in "src")
            yield from (f"imul{width} $-77,{b},{a}", f"lea{width} 5(%rbx,%rcx,4),{a}")
        if width in "lq":
            for name in ("shld", "shrd"):
                yield from (f"{name}{width} %cl,{b},{a}", f"{name}{width} $7,{b},{a}")
            yield from (f"{name}{width} {a},{b},{a}" for name in ("shlx", "shrx", "sarx", "andn"))
            yield from (f"rorx{width} $11,{b},{a}", f"bswap{width} {a}")
            yield from (
                f"mov{s}{n}{width} %{r},{a}" for s in "sz" for n, r in (("b", "bl"), ("w", "bx"))
            )
    yield from (
        "movslq %ebx,%rax", "movsbw %bl,%ax", "movzbl %ah,%ebx", "movb %ah,%bl", "addb %ah,%bh",
        "movb %bl,%ah", "cltq", "cwtl", "cqto", "cltd", "movabsq $0x123456789abcdef0,%rax",
        "movq $-1,%rax", "movl $-1,%eax", "movb %al,3(%rsi)", "movl 2(%rsi),%eax",
        "movzbl 5(%rsi),%eax", "movswq 7(%rsi),%rax", "xchgl %eax,1(%rsi)", "shll $4,(%rsi)",
        "incb 6(%rsi)", "notw 1(%rsi)", "btsl $3,(%rsi)", "leal -1(%rax,%rbx,8),%ecx",
    )  # fmt: skip
    for code in CONDITIONS_X86:
        yield from (f"set{code} %al", f"cmov{code}q %rbx,%rax", f"cmov{code}l %ebx,%eax")


def riscv() -> Iterator[str]:
    """Give instructions on a0, a1 and a2, with memory at a4."""
    two = "add sub and or xor sll srl sra slt sltu mul mulh mulhu mulhsu div divu rem remu".split()
    two += "addw subw mulw sllw srlw sraw divw divuw remw remuw sgt sgtu".split()
    yield from (f"{name} a0,a1,a2" for name in two)
    for name in "addi andi ori xori slti sltiu addiw".split():
        yield from (f"{name} a0,a1,{n}" for n in (-77, 1, 2047))
    yield from (f"{name} a0,a1,13" for name in "slli srli srai slliw srliw sraiw".split())
    yield from (f"{name} a0,a1" for name in "mv neg not seqz snez sext.w negw sltz sgtz".split())
    for name in "lb lbu lh lhu lw lwu ld sb sh sw sd".split():
        yield from (f"{name} a0,{n}(a4)" for n in (0, 3))
    yield from ("lui a0,0x80000", "lui a0,74565", "li a0,-1", "li a0,4095")


def aarch64() -> Iterator[str]:
    """Give instructions on x0, x1, x2 and x3, with memory at x4."""
    for w in "wx":
        a, b, c, d = (f"{w}{n}" for n in range(4))
        for name in "add adds sub subs and ands orr eor bic bics orn eon".split():
            yield from (
                f"{name} {a},{b},{c}",
                f"{name} {a},{b},{c},lsl 3",
                f"{name} {a},{b},{c},asr 5",
            )
        yield from (f"{name} {a},{b},{c}" for name in "adc adcs sbc sbcs lsl lsr asr ror".split())
        yield from (f"{name} {a},{b},{c}" for name in "mul mneg sdiv udiv".split())
        yield from (f"{name} {a},{b},{c},{d}" for name in ("madd", "msub"))
        yield from (f"{name} {a},{b},77" for name in "add adds sub subs".split())
        yield from (f"{name} {a},{b},0x3f0" for name in "and orr eor ands".split())
        yield from (
            f"{name} {a},{b}" for name in "cmp cmn tst mvn neg negs clz rbit rev rev16 mov".split()
        )
        yield from (f"{name} {a},{b},5,9" for name in "ubfx sbfx ubfiz sbfiz bfi bfxil".split())
        yield from (
            f"{name} {a},{b},{n}" for name in "lsl lsr asr ror".split() for n in (1, 13, 31)
        )
        yield from (f"extr {a},{b},{c},7", f"add {a},{b},w2,sxth 1")
        yield from (f"movz {a},0x1234,lsl 16", f"movn {a},0x55", f"movk {a},0x4321,lsl 16")
        for code in CONDITIONS_ARM:
            yield from (f"cset {a},{code}", f"csetm {a},{code}", f"cinc {a},{b},{code}")
            names = "csel csinc csinv csneg".split()
            yield from (f"{name} {a},{b},{c},{code}" for name in names)
            yield from (f"cneg {a},{b},{code}", f"ccmp {a},{b},5,{code}", f"ccmn {a},3,10,{code}")
        yield from (f"str {a},[x4]", f"ldr {a},[x4,8]", f"stp {a},{b},[x4]", f"ldp {a},{b},[x4,8]")
    yield from (f"{name} x0,w1,w2" for name in "smull umull smnegl umnegl".split())
    yield from (f"{name} x0,w1,w2,x3" for name in "smaddl umaddl smsubl umsubl".split())
    yield from ("smulh x0,x1,x2", "umulh x0,x1,x2", "rev32 x0,x1", "add x0,x1,w2,uxtw 2")
    yield from ("sub x0,x1,w2,sxtb", "cmp x0,w1,sxtw", "cmp w0,w1,uxtb")
    yield from (
        f"{s}xt{b} {w}0,w1"
        for s, b, w in (
            ("s", "b", "w"),
            ("s", "h", "x"),
            ("s", "w", "x"),
            ("u", "b", "w"),
            ("u", "h", "w"),
        )
    )
    yield from (
        f"{name} w0,[x4,{n}]" for name in "ldrb ldrh ldrsb ldrsh strb strh".split() for n in (0, 6)
    )
    yield from ("ldrsw x0,[x4,4]", "ldrsb x0,[x4,3]", "ldur x0,[x4,3]", "sturh w0,[x4,5]")


def arm() -> Iterator[str]:
    """Give instructions on r0 to r3, with memory at r4."""
    for name in "add sub rsb adc sbc rsc and orr eor bic".split():
        for s in ("", "s"):
            ends = (
                "r2",
                "r2,lsl #3",
                "r2,lsr #5",
                "r2,asr #7",
                "r2,ror #9",
                "r2,lsl r3",
                "r2,asr r3",
            )
            yield from (f"{name}{s} r0,r1,{end}" for end in ends)
            yield from (f"{name}{s} r0,r1,#{n}" for n in (1, 255))
    yield from (
        f"{name} r0,{b}" for name in "cmp cmn tst teq".split() for b in ("r1", "r1,lsl #2", "#7")
    )
    yield from (f"{name}{s} r0,r1" for name in ("mov", "mvn") for s in ("", "s"))
    for name in "lsl lsr asr ror".split():
        yield from (f"{name}{s} r0,r1,{n}" for s in ("", "s") for n in ("r2", "#1", "#13", "#31"))
    yield from ("mul r0,r1,r2", "muls r0,r1,r2", "mla r0,r1,r2,r3", "mls r0,r1,r2,r3")
    yield from (f"{name} r0,r1,r2,r3" for name in "umull smull umlal smlal".split())
    yield from ("smmul r0,r1,r2", "sdiv r0,r1,r2", "udiv r0,r1,r2", "clz r0,r1", "rbit r0,r1")
    yield from (f"smul{x}{y} r0,r1,r2" for x in "bt" for y in "bt")
    yield from ("smlabb r0,r1,r2,r3", "smlatb r0,r1,r2,r3")
    yield from (f"{name} r0,r1" for name in "rev rev16 revsh sxtb uxtb sxth uxth".split())
    yield from ("sxtab r0,r1,r2", "uxtah r0,r1,r2,ror #16", "sxtb r0,r1,ror #8")
    yield from ("ubfx r0,r1,#5,#9", "sbfx r0,r1,#3,#20", "bfi r0,r1,#4,#7", "bfc r0,#2,#11")
    yield from ("movw r0,#4660", "movt r0,#17185")
    for code in CONDITIONS_ARM:
        yield from (
            f"mov{code} r0,r1",
            f"adds{code} r0,r1,r2",
            f"str{code} r0,[r4]",
            f"mvn{code} r0,#0",
        )
    accesses = "ldr ldrb ldrh ldrsb ldrsh str strb strh".split()
    yield from (f"{name} r0,[r4,#{n}]" for name in accesses for n in (0, 6))
    yield from ("ldrd r0,r1,[r4]", "strd r0,r1,[r4,#8]", "ldm r4,{r0,r1,r2}", "stm r4,{r0-r2}")


def avr() -> Iterator[str]:
    """Give instructions on r16 to r25, with memory at X, Y and Z."""
    two = "add adc sub sbc and or eor cp cpc mov mul muls".split()
    yield from (f"{name} r16,r17" for name in two)
    yield from (
        f"{name} r16,{n}" for name in "subi sbci andi ori cpi ldi".split() for n in (1, 127, 200)
    )
    one = "com neg inc dec lsr ror asr lsl rol tst clr ser swap".split()
    yield from (f"{name} r16" for name in one)
    yield from (f"{name} r24,{n}" for name in ("adiw", "sbiw") for n in (1, 63))
    yield from ("mulsu r16,r17", "movw r16,r18", "bst r16,3", "bld r16,5")
    yield from ("ld r16,X", "ld r16,X+", "ld r16,-X", "ld r16,Y+", "ldd r16,Y+3", "ldd r16,Z+9")
    yield from ("st X,r16", "st X+,r16", "st -Y,r16", "std Y+3,r16", "std Z+7,r16")


def msp430() -> Iterator[str]:
    """Give instructions on r12 to r15, with memory at r11."""
    two = "mov add addc sub subc cmp bit bic bis xor and".split()
    for name in two:
        for size in ("", ".b"):
            ends = ("r13,r12", "#77,r12", "#-1,r12", "2(r11),r12", "@r11,r12", "r13,4(r11)")
            yield from (f"{name}{size} {end}" for end in ends)
    for name in "clr inc incd dec decd tst inv adc sbc rla rlc rra rrc".split():
        yield from (f"{name} r12", f"{name}.b r12")
    yield from ("swpb r12", "sxt r12", "mov @r11+,r12", "mov.b @r11+,r12")
