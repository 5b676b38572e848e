/* Run on another kind of machine, under emulation: all loops over pixels that it has,
 * which are those whose names are given, the best first. */
#include <stdio.h>
#include <string.h>

#include "../support/kernel_check.h"

int main(int argc, char **argv)
{
    int count = 0;
    size_t width = 0;
    for (const twi_kernels *k = NULL; (k = twi_kernels_at((size_t)count)) != NULL;
         count++) {
        const char *wrong = kernel_check(k, &width);
        printf("kernels %s: %s\n", k->name, wrong ? wrong : "the same");
        if (wrong || count + 1 >= argc || strcmp(k->name, argv[count + 1]) != 0)
            return 1;
    }
    return count == argc - 1 ? 0 : 1;
}
