/* Run on another kind of machine, under emulation: all loops over pixels that it has. */
#include <stdio.h>

#include "../support/kernel_check.h"

int main(void)
{
    size_t count = 0, width = 0;
    for (const twi_kernels *k = NULL; (k = twi_kernels_at(count)) != NULL; count++) {
        const char *wrong = kernel_check(k, &width);
        printf("kernels %s: %s\n", k->name, wrong ? wrong : "the same");
        if (wrong)
            return 1;
    }
    return count >= 2 ? 0 : 1; /* NEON and the plain ones */
}
