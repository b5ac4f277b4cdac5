"""Words that C and C++ keep to themselves, their keywords and what their standard headers declare."""

from __future__ import annotations

import re

_KEYWORDS = """
alignas alignof asm auto bool break case char const constexpr continue default do double else enum extern false float
for fortran goto if inline int long main nullptr register restrict return short signed sizeof static static_assert
struct switch thread_local true typedef typeof typeof_unqual union unsigned void volatile while
"""
_CPP = """
and and_eq array atomic_cancel atomic_commit atomic_noexcept bitand bitor catch char16_t char32_t char8_t class
co_await co_return co_yield compl concept const_cast consteval constinit cstddef cstdint cstring decltype delete
dynamic_cast explicit export final friend import module mutable namespace new noexcept not not_eq operator or or_eq
override private protected public reflexpr reinterpret_cast requires static_cast std synchronized template this throw
try typeid typename using virtual wchar_t xor xor_eq
"""
_HEADERS = """
BUFSIZ CHAR_BIT CHAR_MAX CHAR_MIN EOF EXIT_FAILURE EXIT_SUCCESS FILE FILENAME_MAX FOPEN_MAX FP_ILOGB0 FP_ILOGBNAN
FP_INFINITE FP_NAN FP_NORMAL FP_SUBNORMAL FP_ZERO HUGE_VAL HUGE_VALF HUGE_VALL INFINITY INT16_C INT16_MAX INT16_MIN
INT32_C INT32_MAX INT32_MIN INT64_C INT64_MAX INT64_MIN INT8_C INT8_MAX INT8_MIN INTMAX_C INTMAX_MAX INTMAX_MIN
INTPTR_MAX INTPTR_MIN INT_FAST16_MAX INT_FAST16_MIN INT_FAST32_MAX INT_FAST32_MIN INT_FAST64_MAX INT_FAST64_MIN
INT_FAST8_MAX INT_FAST8_MIN INT_LEAST16_MAX INT_LEAST16_MIN INT_LEAST32_MAX INT_LEAST32_MIN INT_LEAST64_MAX
INT_LEAST64_MIN INT_LEAST8_MAX INT_LEAST8_MIN INT_MAX INT_MIN LLONG_MAX LLONG_MIN LONG_MAX LONG_MIN L_tmpnam
MATH_ERREXCEPT MATH_ERRNO MB_CUR_MAX MB_LEN_MAX NAN NULL PTRDIFF_MAX PTRDIFF_MIN RAND_MAX SCHAR_MAX SCHAR_MIN SEEK_CUR
SEEK_END SEEK_SET SHRT_MAX SHRT_MIN SIG_ATOMIC_MAX SIG_ATOMIC_MIN SIZE_MAX TMP_MAX UCHAR_MAX UINT16_C UINT16_MAX
UINT32_C UINT32_MAX UINT64_C UINT64_MAX UINT8_C UINT8_MAX UINTMAX_C UINTMAX_MAX UINTPTR_MAX UINT_FAST16_MAX
UINT_FAST32_MAX UINT_FAST64_MAX UINT_FAST8_MAX UINT_LEAST16_MAX UINT_LEAST32_MAX UINT_LEAST64_MAX UINT_LEAST8_MAX
UINT_MAX ULLONG_MAX ULONG_MAX USHRT_MAX WCHAR_MAX WCHAR_MIN WINT_MAX WINT_MIN abort abs acos acosf acosh acoshf acoshl
acosl aligned_alloc asin asinf asinh asinhf asinhl asinl at_quick_exit atan atan2 atan2f atan2l atanf atanh atanhf
atanhl atanl atexit atof atoi atol atoll bool bsearch calloc cbrt cbrtf cbrtl ceil ceilf ceill clearerr copysign
copysignf copysignl cos cosf cosh coshf coshl cosl div div_t double_t erf erfc erfcf erfcl erff erfl errno exit exp
exp2 exp2f exp2l expf expl expm1 expm1f expm1l fabs fabsf fabsl false fclose fdim fdimf fdiml feof ferror fflush fgetc
fgetpos fgets float_t floor floorf floorl fma fmaf fmal fmax fmaxf fmaxl fmin fminf fminl fmod fmodf fmodl fopen
fpclassify fpos_t fprintf fputc fputs fread free freopen frexp frexpf frexpl fscanf fseek fsetpos ftell fwrite getc
getchar getenv hypot hypotf hypotl ilogb ilogbf ilogbl int int16_t int32_t int64_t int8_t int_fast16_t int_fast32_t
int_fast64_t int_fast8_t int_least16_t int_least32_t int_least64_t int_least8_t intmax_t intptr_t isfinite isgreater
isgreaterequal isinf isless islessequal islessgreater isnan isnormal isunordered labs ldexp ldexpf ldexpl ldiv ldiv_t
lgamma lgammaf lgammal limits llabs lldiv lldiv_t llrint llrintf llrintl llround llroundf llroundl log log10 log10f
log10l log1p log1pf log1pl log2 log2f log2l logb logbf logbl logf logl lrint lrintf lrintl lround lroundf lroundl
malloc math math_errhandling max_align_t mblen mbstowcs mbtowc memchr memcmp memcpy memmove memset modf modff modfl
nan nanf nanl nearbyint nearbyintf nearbyintl nextafter nextafterf nextafterl nexttoward nexttowardf nexttowardl
offsetof perror pow powf powl printf ptrdiff_t putc putchar puts qsort quick_exit rand realloc remainder remainderf
remainderl remove remquo remquof remquol rename rewind rint rintf rintl round roundf roundl scalbln scalblnf scalblnl
scalbn scalbnf scalbnl scanf setbuf setvbuf signbit sin sinf sinh sinhf sinhl sinl size_t sizeof snprintf sprintf sqrt
sqrtf sqrtl srand sscanf ssize_t stdbool stddef stderr stdin stdint stdio stdlib stdout strcat strchr strcmp strcoll
strcpy strcspn strerror string strlen strncat strncmp strncpy strpbrk strrchr strspn strstr strtod strtof strtok
strtol strtold strtoll strtoul strtoull strxfrm system tan tanf tanh tanhf tanhl tanl tgamma tgammaf tgammal tmpfile
tmpnam true trunc truncf truncl uint16_t uint32_t uint64_t uint8_t uint_fast16_t uint_fast32_t uint_fast64_t
uint_fast8_t uint_least16_t uint_least32_t uint_least64_t uint_least8_t uintmax_t uintptr_t ungetc vfprintf vfscanf
void vprintf vscanf vsnprintf vsprintf vsscanf wchar_t wcstombs wctomb
"""
_OWN = """
COUNT block blocks codes count differences expected input input_type output output_type reset run run_codes state
"""
RESERVED = {
    "C": frozenset(_KEYWORDS.split()),
    "C++": frozenset(_CPP.split()),
    "the standard headers of C": frozenset(_HEADERS.split()),
    "the code that is written": frozenset(_OWN.split()),
}
"""Who keeps which words: C23 and C++23, what the headers included declare (C11), and what the code itself calls so."""


def owner_of(name: str) -> str:
    """Who keeps a word to itself; empty for a name that is free."""
    if re.fullmatch(r"set_(taps|section)_\d+", name):
        return "the code that is written"
    return next((owner for owner, words in RESERVED.items() if name in words), "")
