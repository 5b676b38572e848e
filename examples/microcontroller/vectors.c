/* The first two words of memory, from which a Cortex-M4 starts: where the stack begins and
 * what runs first (newlib's own start-up, which then calls main). Made for the simulated
 * board mps2-an386; a real board has more to set up. */
extern unsigned long stack_top;
void _start(void);

__attribute__((section(".vectors"), used)) static void (*const vectors[])(void) = {
    (void (*)(void))&stack_top, _start};
