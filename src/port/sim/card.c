/* A card in memory, with faults on request. */
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../../core/naming.h"
#include "../../core/sized.h"
#include "tawny/port_sim.h"

typedef struct sim_file {
    char name[TWI_NAME_MAX];
    uint8_t *data;
    size_t bytes, capacity;
    size_t synced; /* bytes that a power cut leaves alone */
} sim_file;

typedef struct sim_card {
    tw_sim_faults faults;
    sim_file **files;
    size_t count;
    size_t open;
    _Atomic uint64_t used; /* its space may be asked for by any thread */
    atomic_uint calls;
} sim_card;

/* Whether the call that has just been counted is to fail. */
static bool fails(const sim_card *card, uint32_t now, bool changes)
{
    const tw_sim_faults *f = &card->faults;
    const uint32_t at = f->fail_call;
    if (f->read_only && !changes)
        return false;
    if (f->fail_every > 0 && now % f->fail_every == 0)
        return true;
    if (at == 0 || now < at || (f->back_call > 0 && now >= f->back_call))
        return false;
    return now == at || f->dead;
}

/* Count a call. @return TW_OK, or the fault that was asked for. */
static tw_status call(sim_card *card, const char *doing, const char *name, tw_error *err)
{
    const bool changes = strcmp(doing, "look at") != 0 && strcmp(doing, "read") != 0;
    const tw_sim_faults *f = &card->faults;
    const uint32_t now = atomic_fetch_add(&card->calls, 1) + 1;
    if (f->slow_us > 0 && strcmp(doing, "write") == 0)
        f->clock.ops->sleep_until(f->clock.ctx,
                                  f->clock.ops->now_us(f->clock.ctx) + f->slow_us);
    if (!fails(card, now, changes))
        return TW_OK;
    return tw_fail(err, f->fail_with, "cannot %s simulated card/%s: %s", doing, name,
                   tw_status_text(f->fail_with));
}

static size_t find(const sim_card *card, const char *name)
{
    size_t i = 0;
    while (i < card->count && strcmp(card->files[i]->name, name) != 0)
        i++;
    return i;
}

static tw_status create(void *ctx, const char *name, void **file, tw_error *err)
{
    sim_card *card = ctx;
    const tw_status st = call(card, "write", name, err);
    if (st != TW_OK)
        return st;
    if (find(card, name) < card->count)
        return tw_fail(err, TW_EEXIST, "cannot write simulated card/%s: it exists", name);
    sim_file *made = calloc(1, sizeof *made);
    sim_file **more = realloc(card->files, (card->count + 1) * sizeof *more);
    if (more)
        card->files = more;
    if (!made || !more) {
        free(made);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    (void)snprintf(made->name, sizeof made->name, "%s", name);
    card->files[card->count++] = made;
    card->open++;
    *file = made;
    return TW_OK;
}

static tw_status append(void *ctx, void *file, const void *data, size_t bytes,
                        tw_error *err)
{
    sim_card *card = ctx;
    sim_file *f = file;
    const tw_status st = call(card, "write", f->name, err);
    if (st != TW_OK)
        return st;
    if (card->faults.capacity > 0 && card->used + bytes > card->faults.capacity)
        return tw_fail(err, TW_ENOSPC, "cannot write simulated card/%s: %s", f->name,
                       tw_status_text(TW_ENOSPC));
    if (card->faults.forgets) {
        f->bytes += bytes;
        card->used += bytes;
        return TW_OK;
    }
    if (f->bytes + bytes > f->capacity) {
        const size_t capacity = (f->bytes + bytes) * 2;
        uint8_t *more = realloc(f->data, capacity);
        if (!more)
            return tw_fail(err, TW_ENOMEM, "out of memory");
        f->data = more;
        f->capacity = capacity;
    }
    if (bytes > 0)
        memcpy(f->data + f->bytes, data, bytes);
    f->bytes += bytes;
    card->used += bytes;
    return TW_OK;
}

static tw_status sync_file(void *ctx, void *file, tw_error *err)
{
    sim_file *f = file;
    const tw_status st = call(ctx, "write", f->name, err);
    if (st == TW_OK)
        f->synced = f->bytes;
    return st;
}

static tw_status close_file(void *ctx, void *file, tw_error *err)
{
    sim_card *card = ctx;
    card->open--;
    return call(card, "write", ((const sim_file *)file)->name, err);
}

static tw_status rename_file(void *ctx, const char *from, const char *to, tw_error *err)
{
    sim_card *card = ctx;
    const tw_status st = call(card, "name", to, err);
    if (st != TW_OK)
        return st;
    const size_t i = find(card, from);
    if (i == card->count)
        return tw_fail(err, TW_ENOENT, "cannot name simulated card/%s: not found", to);
    if (find(card, to) < card->count)
        return tw_fail(err, TW_EEXIST, "cannot name simulated card/%s: it exists", to);
    (void)snprintf(card->files[i]->name, sizeof card->files[i]->name, "%s", to);
    return TW_OK;
}

static tw_status remove_file(void *ctx, const char *name, tw_error *err)
{
    sim_card *card = ctx;
    const tw_status st = call(card, "remove", name, err);
    if (st != TW_OK)
        return st;
    const size_t i = find(card, name);
    if (i == card->count)
        return tw_fail(err, TW_ENOENT, "cannot remove simulated card/%s: not found",
                       name);
    card->used -= card->files[i]->bytes;
    free(card->files[i]->data);
    free(card->files[i]);
    card->files[i] = card->files[--card->count];
    return TW_OK;
}

static tw_status space(void *ctx, uint64_t *free_bytes, uint64_t *total_bytes,
                       tw_error *err)
{
    sim_card *card = ctx;
    const tw_status st = call(card, "look at", "", err);
    if (st != TW_OK)
        return st;
    *total_bytes = card->faults.capacity ? card->faults.capacity : UINT64_C(1) << 40;
    *free_bytes = *total_bytes - card->used;
    return TW_OK;
}

static const char *place(void *ctx)
{
    (void)ctx;
    return "simulated card";
}

static tw_status
list_files(void *ctx, bool (*visit)(void *visitor, const char *name, uint64_t bytes),
           void *visitor, tw_error *err)
{
    sim_card *card = ctx;
    const tw_status st = call(card, "look at", "", err);
    bool more = st == TW_OK;
    for (size_t i = card->count; more && i > 0; i--) /* those behind may be removed */
        more = visit(visitor, card->files[i - 1]->name, card->files[i - 1]->bytes);
    return st;
}

static tw_status read_file(void *ctx, const char *name, uint64_t offset, void *out,
                           size_t bytes, size_t *got, tw_error *err)
{
    sim_card *card = ctx;
    const size_t i = find(card, name);
    *got = 0;
    if (i == card->count)
        return tw_fail(err, TW_ENOENT, "cannot read simulated card/%s: not found", name);
    const tw_status st = call(card, "read", name, err);
    const sim_file *f = card->files[i];
    if (st != TW_OK || offset >= f->bytes)
        return st;
    *got = f->bytes - offset < bytes ? f->bytes - (size_t)offset : bytes;
    if (f->data)
        memcpy(out, f->data + offset, *got);
    else
        memset(out, 0, *got);
    return TW_OK;
}

static tw_status shorten_file(void *ctx, const char *name, uint64_t bytes, tw_error *err)
{
    sim_card *card = ctx;
    const size_t i = find(card, name);
    if (i == card->count)
        return tw_fail(err, TW_ENOENT, "cannot shorten simulated card/%s: not found",
                       name);
    const tw_status st = call(card, "shorten", name, err);
    sim_file *f = card->files[i];
    if (st != TW_OK || bytes >= f->bytes)
        return st;
    card->used -= f->bytes - bytes;
    f->bytes = (size_t)bytes;
    f->synced = f->bytes;
    return TW_OK;
}

static const char *folder(void *ctx)
{
    (void)ctx;
    return NULL;
}

static tw_status claim(void *ctx, tw_error *err)
{
    (void)ctx;
    (void)err;
    return TW_OK; /* nobody else can reach it */
}

static void destroy(void *ctx)
{
    sim_card *card = ctx;
    for (size_t i = 0; i < card->count; i++) {
        free(card->files[i]->data);
        free(card->files[i]);
    }
    free(card->files);
    free(card);
}

tw_status tw_sim_card(const tw_sim_faults *faults, tw_card *out)
{
    static const tw_card_ops ops = {sizeof ops, create,      append,      sync_file,
                                    close_file, rename_file, remove_file, space,
                                    place,      list_files,  read_file,   shorten_file,
                                    folder,     claim,       destroy};
    sim_card *card = calloc(1, sizeof *card);
    if (!card)
        return TW_ENOMEM;
    if (faults)
        TWI_TAKE(card->faults, faults);
    *out = (tw_card){&ops, card};
    return TW_OK;
}

void tw_sim_card_cut(tw_card *card, uint32_t seed)
{
    enum { SECTOR = 512 };
    sim_card *c = card->ctx;
    for (size_t i = 0; i < c->count; i++) {
        sim_file *f = c->files[i];
        const size_t unsafe = f->bytes - f->synced;
        seed = seed * 1664525U + 1013904223U;
        const size_t left = f->synced + (unsafe > 0 ? (seed >> 8) % (unsafe + 1) : 0);
        c->used -= f->bytes - left;
        f->bytes = left;
        /* Sectors are not written in the order of the file: one may still be empty. */
        if (left - f->synced > SECTOR && seed >> 31)
            memset(f->data + f->synced, 0, SECTOR);
        f->synced = left;
    }
    c->open = 0;
    c->faults = (tw_sim_faults){.capacity = c->faults.capacity};
}

size_t tw_sim_card_count(const tw_card *card)
{
    return ((const sim_card *)card->ctx)->count;
}

tw_status tw_sim_card_file(const tw_card *card, size_t index, const char **name,
                           const uint8_t **data, size_t *bytes)
{
    const sim_card *c = card->ctx;
    if (index >= c->count)
        return TW_ENOENT;
    *name = c->files[index]->name;
    *data = c->files[index]->data;
    *bytes = c->files[index]->bytes;
    return TW_OK;
}

uint32_t tw_sim_card_calls(const tw_card *card)
{
    return ((const sim_card *)card->ctx)->calls;
}

size_t tw_sim_card_open(const tw_card *card)
{
    return ((const sim_card *)card->ctx)->open;
}
