"""Names of functions, and a few instructions, that have a part of their own in compiled code."""

import re

from hot_anvil.core.arch.helpers import ATOMIC_CALL, RETPOLINE

BLOCK_CALLS = frozenset(
    "memset memcpy memmove bzero strlen wcslen memcmp bcmp memchr strchr strcpy stpcpy rawmemchr"
    " __memset_chk __memcpy_chk".split()
)
STACK_GUARD = re.compile(r"__stack_chk_\w+|__stack_smash\w*")
CHECKED_COPY = re.compile(r"__(\w+)_chk")
SANITISER = re.compile(
    r"__(?:ubsan|asan|tsan|msan|sanitizer)_\w+|__cfi_\w+|__(?:add|sub|mul|neg)v[sd]i\d"
)
UNWINDING = re.compile(
    r"_Unwind_\w+|__cxa_(?:begin|end)_\w+|__clang_call_terminate|_ZSt9terminatev"
)
PANIC = re.compile(
    r".*(?:panic|unwrap_failed|expect_failed|_index_fail|out_of_range|slice_\w+_fail|bad_\w+).*"
    r"|abort|__assert_fail|__assert|_ZSt\d+__throw_\w+|__cxa_throw|__cxa_bad_\w+|__builtin_trap"
)
NEVER_RETURNS = re.compile(
    r"abort|_?exit|_Exit|quick_exit|__assert_(?:fail|func|rtn)|__stack_chk_fail|(?:sig)?longjmp"
    r"|_Unwind_Resume|__cxa_(?:re)?throw|__cxa_(?:bad_cast|bad_typeid|throw_bad_array_\w+)"
    r"|__clang_call_terminate|_ZSt9terminatev|_ZSt\d+__throw_\w+"
    r"|_gfortran_(?:error_)?stop_\w+|_gfortran_(?:runtime|os)_error(?:_at)?"
    r"|_(?:ZN4core|RN\w*?_4core)(?:\w*9panicking\w*|\w*_fail(?:ed)?(?:17h\w+)?)"
)  # by the C, C++, Fortran and Rust standards, the C++ ABI or what defines them
HEAP = re.compile(
    r"(?:malloc|calloc|realloc|free|aligned_alloc|posix_memalign|strdup|strndup|_Zn[wa]\w+|_Zd[la]\w+"
    r"|__rust_(?:no_)?(?:alloc|dealloc|realloc)\w*|.*exchange_malloc.*)"
)
COUNTING = re.compile(
    r".*(?:_M_release|_M_add_ref|_M_destroy|_Py_(?:Inc|Dec)Ref|_ref|_unref|drop_slow|AddRef|Release"
    r"|swift_re(?:tain|lease)|objc_re(?:tain|lease)).*"
)


def is_guard(name: str) -> bool:
    """Tell whether a function is called only to guard, by a compiler's own doing."""
    patterns = (STACK_GUARD, SANITISER, PANIC, ATOMIC_CALL, RETPOLINE)
    return any(pattern.fullmatch(name) for pattern in patterns)


def plain_name(name: str) -> str:
    """Return a function's symbol without what compilers add: ``f.constprop.0`` is ``f``."""
    if name.startswith("__") and name.endswith("_chk") and not name.startswith("__stack"):
        return name[2:-4]  # the checked form of a library function
    head, dot, rest = name.partition(".")
    return (
        head
        if dot and head and rest.startswith(("constprop", "isra", "part", "cold", "llvm"))
        else name
    )
