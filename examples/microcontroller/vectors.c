/* The first two words of memory, from which a Cortex-M4 starts: where the stack begins
 * and what runs first (newlib's own start-up, which then calls main). Made for the
 * simulated board mps2-an386; a real board has more to set up. */
void stack_top(void); /* no function: board.ld gives the address */
void _start(void);

__attribute__((section(".vectors"), used)) static void (*const vectors[])(void) = {
    stack_top, _start};
