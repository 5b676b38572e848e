/* See bulk.h. */
#include "bulk.h"

#include <stdlib.h>
#include <string.h>

/* ---- rows ------------------------------------------------------------------------ */

tw_status twi_pg_rows_begin(twi_pg_rows *rows, tw_error *err)
{
    *rows = (twi_pg_rows){0};
    rows->out = open_memstream(&rows->text, &rows->bytes);
    return rows->out ? TW_OK : tw_fail(err, TW_ENOMEM, "out of memory");
}

static bool rows_end(twi_pg_rows *rows)
{
    FILE *out = rows->out;
    rows->out = NULL;
    return out && fclose(out) == 0;
}

void twi_pg_rows_free(twi_pg_rows *rows)
{
    (void)rows_end(rows);
    free(rows->text);
}

void twi_pg_field(FILE *out, const char *text)
{
    static const char SPECIAL[] = "\\\t\n\r", LETTER[] = "\\tnr";
    (void)fputc('\t', out);
    while (*text) {
        const size_t plain = strcspn(text, SPECIAL);
        (void)fwrite(text, 1, plain, out);
        text += plain;
        if (*text)
            (void)fprintf(out, "\\%c", LETTER[strchr(SPECIAL, *text++) - SPECIAL]);
    }
}

/* The end of a COPY: what the server says of it. */
static tw_status copy_end(const twi_ledger *l, tw_error *err)
{
    tw_status st = TW_OK;
    PGresult *r = NULL;
    if (PQputCopyEnd(l->db, NULL) != 1)
        st = twi_pg_fail(l, NULL, err);
    while ((r = PQgetResult(l->db)) != NULL) {
        if (PQresultStatus(r) != PGRES_COMMAND_OK && st == TW_OK)
            st = twi_pg_fail(l, r, err);
        PQclear(r);
    }
    return st;
}

static tw_status copy_text(const twi_ledger *l, const char *sql, const twi_pg_rows *rows,
                           tw_error *err)
{
    PGresult *r = PQexec(l->db, sql);
    tw_status st = PQresultStatus(r) == PGRES_COPY_IN ? TW_OK : twi_pg_fail(l, r, err);
    PQclear(r);
    if (st != TW_OK)
        return st;
    const bool sent = PQputCopyData(l->db, rows->text, (int)rows->bytes) == 1;
    st = copy_end(l, err);
    return st == TW_OK && !sent ? twi_pg_fail(l, NULL, err) : st;
}

tw_status twi_pg_copy(const twi_ledger *l, const char *sql, twi_pg_rows *rows,
                      tw_error *err)
{
    if (!rows_end(rows))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    return rows->bytes > 0 ? copy_text(l, sql, rows, err) : TW_OK;
}

/* ---- lists ----------------------------------------------------------------------- */

tw_status twi_pg_lists_begin(twi_pg_lists *lists, size_t columns, tw_error *err)
{
    bool good = true;
    *lists = (twi_pg_lists){.columns = columns};
    for (size_t i = 0; i < columns; i++) {
        lists->out[i] = open_memstream(&lists->text[i], &lists->bytes[i]);
        good = good && lists->out[i];
    }
    return good ? TW_OK : tw_fail(err, TW_ENOMEM, "out of memory");
}

/* @return whether all of them are whole */
static bool lists_end(twi_pg_lists *lists)
{
    bool whole = true;
    for (size_t i = 0; i < lists->columns; i++) {
        FILE *out = lists->out[i];
        lists->out[i] = NULL;
        whole = out && fputc('}', out) != EOF && whole;
        whole = out && fclose(out) == 0 && whole;
    }
    return whole;
}

void twi_pg_lists_free(twi_pg_lists *lists)
{
    (void)lists_end(lists);
    for (size_t i = 0; i < lists->columns; i++)
        free(lists->text[i]);
}

void twi_pg_list(twi_pg_lists *lists, const int64_t *row)
{
    for (size_t i = 0; i < lists->columns; i++)
        (void)fprintf(lists->out[i], "%c%lld", lists->rows == 0 ? '{' : ',',
                      (long long)row[i]);
    lists->rows++;
}

tw_status twi_pg_ask_lists(twi_ledger *l, const char *sql, twi_pg_lists *lists,
                           PGresult **out, tw_error *err)
{
    if (out)
        *out = NULL;
    if (!lists_end(lists))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (lists->rows == 0)
        return TW_OK;
    return twi_pg_ask_again(l, sql, (int)lists->columns, (const char *const *)lists->text,
                            out, err);
}
