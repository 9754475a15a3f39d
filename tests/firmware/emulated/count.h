/* Instructions between two moments: with one instruction a nanosecond the system timer counts them. */
#include <stdint.h>
#define TIMER(n) (*(volatile uint32_t *)(0xE000E010u + 4u * (n)))
static uint32_t begun;
static void count_from_here(void)
{
    TIMER(1) = 0xFFFFFFu;
    TIMER(2) = 0u;
    TIMER(0) = 5u;
    begun = TIMER(2);
}
static unsigned long counted(void) { return (unsigned long)((begun - TIMER(2)) & 0xFFFFFFu) * NS_A_TICK; }
