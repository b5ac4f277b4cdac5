/* A start for an emulated Cortex-M board: vectors, memory, words to the host by semihosting, a clock that counts
   instructions (with the emulator's -icount shift=0 every instruction takes a nanosecond; the timer counts 40 of them). */
#include <stdint.h>

int main(void);
void reset(void);
void leave(int status);
void fault(void);
void clock_start(void);
uint32_t clock_ticks(void);
long host(long operation, const void *argument);

extern uint32_t stack_top, data_start, data_stop, data_load, bss_start, bss_stop;

long host(long operation, const void *argument)
{
    register long r0 __asm__("r0") = operation;
    register const void *r1 __asm__("r1") = argument;

    __asm__ volatile("bkpt 0xAB" : "+r"(r0) : "r"(r1) : "memory");
    return r0;
}

__attribute__((section(".vectors"), used)) static void *const vectors[16] = {
    &stack_top, (void *)reset, (void *)fault, (void *)fault, (void *)fault, (void *)fault, (void *)fault
};

void reset(void)
{
    uint32_t *from = &data_load, *to = &data_start;

    *(volatile uint32_t *)0xE000ED88u |= 0xFu << 20; /* the floating-point unit, where there is one */

    while (to < &data_stop) {
        *to++ = *from++;
    }
    for (to = &bss_start; to < &bss_stop;) {
        *to++ = 0;
    }
    leave(main());
}

void clock_start(void)
{
    *(volatile uint32_t *)0xE000E014u = 0xFFFFFFu;
    *(volatile uint32_t *)0xE000E018u = 0u;
    *(volatile uint32_t *)0xE000E010u = 5u;
}

uint32_t clock_ticks(void)
{
    return 0xFFFFFFu - *(volatile uint32_t *)0xE000E018u;
}
