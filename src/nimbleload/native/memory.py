"""Memory and functions by address, for compiled code: what a plugin's C interface needs and Numba does not offer.

Addresses are int64. Nothing here checks them; a wrong one crashes the process, as it would in C.
"""

from llvmlite import ir
from numba import carray, njit, types
from numba.core import cgutils
from numba.extending import intrinsic

PROCESS = types.int32(types.int64, types.int64)


@intrinsic
def call2(typingctx, function, first, second):
    """Calls a C function `int32 f(void *first, void *second)` by its address."""

    def codegen(context, builder, signature, args):
        word = ir.IntType(64)
        kind = ir.FunctionType(ir.IntType(32), [word, word])
        return builder.call(builder.inttoptr(args[0], kind.as_pointer()), args[1:])

    return types.int32(types.int64, types.int64, types.int64), codegen


@intrinsic
def call4(typingctx, function, first, second, third, fourth):
    """Calls a C function `int32 f(void *, void *, void *, void *)` by its address."""

    def codegen(context, builder, signature, args):
        word = ir.IntType(64)
        kind = ir.FunctionType(ir.IntType(32), [word] * 4)
        return builder.call(builder.inttoptr(args[0], kind.as_pointer()), args[1:])

    return types.int32(*[types.int64] * 5), codegen


@intrinsic
def call_for_address(typingctx, function, first, second):
    """Calls a C function `void *f(void *first, uint32_t second)` by its address."""

    def codegen(context, builder, signature, args):
        word, half = ir.IntType(64), ir.IntType(32)
        kind = ir.FunctionType(word, [word, half])
        pointer = builder.inttoptr(args[0], kind.as_pointer())
        return builder.call(pointer, [args[1], builder.trunc(args[2], half)])

    return types.int64(types.int64, types.int64, types.int64), codegen


@intrinsic
def load_i64(typingctx, address):
    """The 64-bit integer or pointer at an address."""
    return types.int64(types.int64), _load(64, types.int64)


@intrinsic
def load_i32(typingctx, address):
    """The 32-bit integer at an address."""
    return types.int32(types.int64), _load(32, types.int32)


@intrinsic
def load_i16(typingctx, address):
    """The 16-bit integer at an address."""
    return types.int16(types.int64), _load(16, types.int16)


def _load(bits, kind):
    def codegen(context, builder, signature, args):
        return builder.load(builder.inttoptr(args[0], ir.IntType(bits).as_pointer()))

    return codegen


@intrinsic
def _pointer(typingctx, address, like):
    """An address as a pointer to values of `like`'s type."""
    if not isinstance(like, types.Array):
        return None
    target = types.CPointer(like.dtype)

    def codegen(context, builder, signature, args):
        return builder.inttoptr(args[0], context.get_value_type(target))

    return target(types.int64, like), codegen


@njit(inline="always")
def array_at(address, count, like):
    """The `count` values at an address, as an array with the element type of the array `like`; not copied."""
    return carray(_pointer(address, like), (count,))


def _floating_point(x86: int, arm: int):
    """Code that sets this thread's floating-point control word."""

    def codegen(context, builder, signature, args):
        triple = builder.module.triple
        if triple.startswith("x86_64"):
            control = cgutils.alloca_once_value(builder, ir.Constant(ir.IntType(32), x86))
            kind = ir.FunctionType(ir.VoidType(), [cgutils.voidptr_t])
            call = cgutils.get_or_insert_function(builder.module, kind, "llvm.x86.sse.ldmxcsr")
            builder.call(call, [builder.bitcast(control, cgutils.voidptr_t)])
        elif triple.startswith("aarch64"):
            kind = ir.FunctionType(ir.VoidType(), [ir.IntType(64)])
            call = cgutils.get_or_insert_function(builder.module, kind, "llvm.aarch64.set.fpcr")
            builder.call(call, [ir.Constant(ir.IntType(64), arm)])
        return context.get_dummy_value()

    return codegen


@intrinsic
def flush_denormals(typingctx):
    """Makes this thread treat denormal numbers as zero, as audio hosts do (x86-64 and AArch64)."""
    return types.void(), _floating_point(0x1F80 | 0x8040, 1 << 24)


@intrinsic
def keep_denormals(typingctx):
    """Makes this thread compute with denormal numbers, as a program does that has not asked for anything else."""
    return types.void(), _floating_point(0x1F80, 0)


@intrinsic
def add_atomic(typingctx, address, value):
    """Adds to the 64-bit integer at an address, for all threads at one instant; what it was before."""

    def codegen(context, builder, signature, args):
        pointer = builder.inttoptr(args[0], ir.IntType(64).as_pointer())
        return builder.atomic_rmw("add", pointer, args[1], "seq_cst")

    return types.int64(types.int64, types.int64), codegen


@intrinsic
def swap_atomic(typingctx, address, expected, value):
    """Puts a value in place of the expected one at an address; whether it was the expected one."""

    def codegen(context, builder, signature, args):
        pointer = builder.inttoptr(args[0], ir.IntType(64).as_pointer())
        pair = builder.cmpxchg(pointer, args[1], args[2], "seq_cst", "seq_cst")
        return builder.extract_value(pair, 1)

    return types.boolean(types.int64, types.int64, types.int64), codegen


@intrinsic
def load_atomic(typingctx, address):
    """The 64-bit integer at an address, as other threads have last written it."""

    def codegen(context, builder, signature, args):
        pointer = builder.inttoptr(args[0], ir.IntType(64).as_pointer())
        return builder.load_atomic(pointer, "seq_cst", 8)

    return types.int64(types.int64), codegen


@intrinsic
def store_atomic(typingctx, address, value):
    """Writes a 64-bit integer so that other threads see it at once, and everything written before it."""

    def codegen(context, builder, signature, args):
        pointer = builder.inttoptr(args[0], ir.IntType(64).as_pointer())
        builder.store_atomic(args[1], pointer, "seq_cst", 8)
        return context.get_dummy_value()

    return types.void(types.int64, types.int64), codegen


@intrinsic
def relax(typingctx):
    """Tells the core that this thread only waits, so that another one on it gets on (x86-64; else nothing)."""

    def codegen(context, builder, signature, args):
        if builder.module.triple.startswith("x86_64"):
            kind = ir.FunctionType(ir.VoidType(), [])
            builder.call(cgutils.get_or_insert_function(builder.module, kind, "llvm.x86.sse2.pause"), [])
        return context.get_dummy_value()

    return types.void(), codegen
