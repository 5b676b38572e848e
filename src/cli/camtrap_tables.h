/* The tables of Camtrap DP 1.0: their columns, rows, and schemas. */
#ifndef TWI_CLI_CAMTRAP_TABLES_H
#define TWI_CLI_CAMTRAP_TABLES_H

#include <jansson.h>
#include <stdio.h>

typedef struct camtrap_table camtrap_table;

extern const camtrap_table CAMTRAP_DEPLOYMENTS, CAMTRAP_MEDIA, CAMTRAP_OBSERVATIONS;

/* What one row has in a column; all others are empty. */
typedef struct camtrap_cell {
    const char *column, *text;
} camtrap_cell;

/** "deployments" */
const char *camtrap_table_name(const camtrap_table *table);

/** The line with the names of all columns. */
void camtrap_put_head(FILE *out, const camtrap_table *table);

/** A row: cells in any order, ended by one without a column. */
void camtrap_put_row(FILE *out, const camtrap_table *table, const camtrap_cell *cells);

/** What a table may hold, as a Table Schema. @return the caller's; NULL: no memory. */
json_t *camtrap_schema(const camtrap_table *table);

#endif
