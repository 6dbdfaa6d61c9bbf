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
