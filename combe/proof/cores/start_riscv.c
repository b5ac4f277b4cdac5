/* A start for an emulated RISC-V board: a stack, memory, words to the host by semihosting, and the count of instructions retired,
   which the emulator's -icount shift=0 keeps exactly. */
#include <stdint.h>

int main(void);
void reset(void);
void leave(int status);
void fault(void);
void clock_start(void);
uint32_t clock_ticks(void);
long host(long operation, const void *argument);

extern uint32_t stack_top, bss_start, bss_stop;

/* The three instructions that call the host must be whole ones, in one page. */
__asm__(
    ".section .text.entry, \"ax\"\n"
    ".globl _start\n"
    ".option push\n"
    ".option arch, +zicsr\n"
    "_start: la sp, stack_top\n"
    "    la t0, fault\n"
    "    csrw mtvec, t0\n"
    ".option pop\n"
    "    j reset\n"
    ".text\n"
    ".globl host\n"
    ".balign 16\n"
    ".option push\n"
    ".option norvc\n"
    "host: slli zero, zero, 0x1f\n"
    "    ebreak\n"
    "    srai zero, zero, 7\n"
    "    ret\n"
    ".option pop\n"
);

void reset(void)
{
    uint32_t *to;

    for (to = &bss_start; to < &bss_stop;) {
        *to++ = 0;
    }
    leave(main());
}

void clock_start(void)
{
}

uint32_t clock_ticks(void)
{
    unsigned long retired;

    __asm__ volatile(".option push\n.option arch, +zicsr\ncsrr %0, minstret\n.option pop" : "=r"(retired) : : "memory");
    return (uint32_t)retired;
}
