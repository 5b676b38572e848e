/* A plugin for qemu's emulation of user programs: counts the instructions that a program
 * executes, in all of its threads, and prints the sum when it ends. Debian has no header
 * of the interface for plugins (version 1); what is used of it is declared here. */
#include <inttypes.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>

enum { THREADS = 1024, NO_REGISTERS = 0 };

typedef uint64_t plugin_id;
struct qemu_info;
struct qemu_plugin_tb;
typedef void (*on_executed)(unsigned vcpu, void *ctx);
typedef void (*on_translated)(plugin_id id, struct qemu_plugin_tb *block);
typedef void (*on_end)(plugin_id id, void *ctx);

size_t qemu_plugin_tb_n_insns(const struct qemu_plugin_tb *block);
void qemu_plugin_register_vcpu_tb_trans_cb(plugin_id id, on_translated callback);
void qemu_plugin_register_vcpu_tb_exec_cb(struct qemu_plugin_tb *block,
                                          on_executed callback, int flags, void *ctx);
void qemu_plugin_register_atexit_cb(plugin_id id, on_end callback, void *ctx);
void qemu_plugin_outs(const char *text);

extern int qemu_plugin_version;
int qemu_plugin_install(plugin_id id, const struct qemu_info *info, int argc,
                        char **argv);

int qemu_plugin_version = 1;

/* A thread has its own, so that none is lost; a cache line each. */
static struct {
    uint64_t instructions, rest[7];
} counted[THREADS];

static void count_block(unsigned vcpu, void *instructions)
{
    counted[vcpu % THREADS].instructions += (uintptr_t)instructions;
}

static void watch_block(plugin_id id, struct qemu_plugin_tb *block)
{
    (void)id;
    qemu_plugin_register_vcpu_tb_exec_cb(
        block, count_block, NO_REGISTERS,
        (void *)(uintptr_t)qemu_plugin_tb_n_insns(block));
}

static void print_sum(plugin_id id, void *ctx)
{
    char line[48];
    uint64_t sum = 0;
    (void)id;
    (void)ctx;
    for (int i = 0; i < THREADS; i++)
        sum += counted[i].instructions;
    (void)snprintf(line, sizeof line, "instructions %" PRIu64 "\n", sum);
    qemu_plugin_outs(line);
}

int qemu_plugin_install(plugin_id id, const struct qemu_info *info, int argc, char **argv)
{
    (void)info;
    (void)argc;
    (void)argv;
    qemu_plugin_register_vcpu_tb_trans_cb(id, watch_block);
    qemu_plugin_register_atexit_cb(id, print_sum, NULL);
    return 0;
}
