/* What a bare Cortex-M needs before main: the vector table, memory set up, the floating-point unit on where there is one. */
#include <stdint.h>
#include <stdlib.h>

extern uint32_t _stack_top, _data_load, _data_start, _data_end, __bss_start__, __bss_end__;
extern int main(int argc, char **argv);
extern void initialise_monitor_handles(void);

void reset(void);
void _init(void);
void _fini(void);
void _init(void) { }
void _fini(void) { }
static void stop(void) { for (;;) { } }

__attribute__((section(".vectors"), used)) static void *const vectors[16] = {
    &_stack_top, (void *)reset, (void *)stop, (void *)stop, (void *)stop, (void *)stop, (void *)stop, 0, 0, 0, 0, (void *)stop, (void *)stop, 0, (void *)stop, (void *)stop
};

#ifndef ARGUMENTS
#define ARGUMENTS "main"
#endif

void reset(void)
{
    static char *arguments[] = { ARGUMENTS, 0 };
    uint32_t *to = &_data_start;
    const uint32_t *from = &_data_load;
    while (to < &_data_end) *to++ = *from++;
    for (to = &__bss_start__; to < &__bss_end__; to++) *to = 0u;
#if defined(__ARM_FP)
    *(volatile uint32_t *)0xE000ED88u |= 0xFu << 20;
    __asm volatile("dsb\n isb");
#endif
    initialise_monitor_handles();
    exit(main((int)(sizeof arguments / sizeof *arguments) - 1, arguments));
}
