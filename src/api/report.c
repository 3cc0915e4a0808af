#include "api/run.h"
#include "base/text.h"

struct report_table report_start(struct report *to, const char *key, const char *title,
                                 const struct mosaicum_column *columns, size_t count) {
    struct report_table t = {
        .table = {.key = key, .title = title, .columns = columns, .column_count = count},
        .cells = mos_vec_make(to->arena, sizeof(struct mosaicum_cell))};
    return t;
}

void report_end(struct report *to, struct report_table *t) {
    t->table.cells = t->cells.items;
    t->table.row_count = t->cells.count / t->table.column_count;
    *(struct mosaicum_table *)mos_vec_push(&to->tables) = t->table;
}

void report_end_later(struct report *to, struct report_table *t, const struct mosaicum_rows *rows,
                      size_t row_count) {
    t->table.rows = rows;
    t->table.row_count = row_count;
    *(struct mosaicum_table *)mos_vec_push(&to->tables) = t->table;
}

void report_add(struct report *to, const struct report *more) {
    for (size_t i = 0; i < more->tables.count; i++)
        *(struct mosaicum_table *)mos_vec_push(&to->tables) =
            *(struct mosaicum_table *)mos_vec_at(&more->tables, i);
}

void report_text(struct report *to, const char *key, const char *title, const char *text) {
    struct mosaicum_table *t = mos_vec_push(&to->tables);
    t->key = key;
    t->title = title;
    t->text = text;
}

static void add(struct report_table *t, enum mosaicum_cell_kind kind, const char *text,
                uint64_t number) {
    struct mosaicum_cell *c = mos_vec_push(&t->cells);
    *c = (struct mosaicum_cell){kind, text, number};
}

void cell_text(struct report_table *t, const char *text) {
    add(t, text ? MOSAICUM_TEXT : MOSAICUM_EMPTY, text ? text : "", 0);
}

void cell_alarm(struct report_table *t, const char *text) {
    cell_text(t, text);
    ((struct mosaicum_cell *)mos_vec_at(&t->cells, t->cells.count - 1))->kind = MOSAICUM_ALARM;
}

void cell_size(struct report_table *t, uint64_t bytes) {
    add(t, MOSAICUM_BYTES, mos_size_text(t->cells.arena, bytes), bytes);
}

void cell_bytes(struct report_table *t, uint64_t bytes, const char *text) {
    add(t, MOSAICUM_BYTES, text, bytes);
}

void cell_about(struct report_table *t, uint64_t bytes) {
    add(t, MOSAICUM_BYTES, mos_size_about(t->cells.arena, bytes), bytes);
}

void cell_address(struct report_table *t, uint64_t address) {
    add(t, MOSAICUM_ADDRESS, mos_address_text(t->cells.arena, address), address);
}

void cell_number(struct report_table *t, uint64_t number) {
    add(t, MOSAICUM_NUMBER, mos_printf(t->cells.arena, "%llu", (unsigned long long)number), number);
}

void cell_extent(struct report_table *t, uint32_t from, uint32_t to) {
    add(t, MOSAICUM_EXTENT, "", (uint64_t)from << 16 | to);
}
