/* Tables for people: as wide as they must be, on a terminal as it allows. */
#include "cli/cli.h"

#include <assert.h>
#include <libsmartcols/libsmartcols.h>
#include <stdlib.h>
#include <string.h>

enum {
    LONGEST_CELL = 60,
    PLACE_WIDTH = 24,
    MOST_COLUMNS = 32,
    PORTION = 1024 /* rows that are laid out at once */
};

/* Where something lies in the whole, drawn to scale; the least is a mark that can be seen. */
static void draw_extent(const struct cli *cli, uint64_t extent, char *out, size_t room) {
    unsigned from = (unsigned)(extent >> 16 & 0xffff) * PLACE_WIDTH * 2 / 65535,
             to = (unsigned)(extent & 0xffff) * PLACE_WIDTH * 2 / 65535;
    size_t n = 0;
    from = from < 2 * PLACE_WIDTH ? from : 2 * PLACE_WIDTH - 1;
    to = to > from ? to : from + 1;
    for (unsigned i = 0; i < PLACE_WIDTH && n + 8 < room; i++) {
        bool left = from <= 2 * i && to > 2 * i, right = from <= 2 * i + 1 && to > 2 * i + 1;
        const char *mark = left && right ? (cli->unicode ? "\u2588" : "#")
                           : left        ? (cli->unicode ? "\u258c" : "#")
                           : right       ? (cli->unicode ? "\u2590" : "#")
                                         : (cli->unicode ? "\u00b7" : ".");
        n += (size_t)snprintf(out + n, room - n, "%s", mark);
    }
}

/* A cell, shortened where a terminal would be too narrow for the row. */
static void fill_cell(const struct cli *cli, struct libscols_line *line, size_t column,
                      const char *text) {
    char shorter[LONGEST_CELL + 8];
    size_t n = 0;
    if (!cli->width || columns_of(text, strlen(text)) <= LONGEST_CELL) {
        scols_line_set_data(line, column, text);
        return;
    }
    n = LONGEST_CELL - 1;
    while (n && ((unsigned char)text[n] & 0xc0) == 0x80)
        n--;
    snprintf(shorter, sizeof shorter, "%.*s%s", (int)n, text, cli->unicode ? "\u2026" : "~");
    scols_line_set_data(line, column, shorter);
}

static void fill_line(const struct cli *cli, struct libscols_line *line,
                      const struct mosaicum_table *t, const struct mosaicum_cell *cells) {
    for (size_t c = 0; c < t->column_count; c++) {
        const struct mosaicum_cell *x = &cells[c];
        char drawn[PLACE_WIDTH * 4];
        if (x->kind == MOSAICUM_EXTENT) {
            draw_extent(cli, x->number, drawn, sizeof drawn);
            scols_line_set_data(line, c, drawn);
        } else if (t->row_count > 1 && c + 1 < t->column_count) {
            fill_cell(cli, line, c, one_line(x->text));
        } else {
            scols_line_set_data(line, c, one_line(x->text));
        }
    }
}

/* ---- what is known of a table before it is drawn ---- */

struct drawing {
    const struct cli *cli;
    const struct mosaicum_table *t;
    FILE *to;
    size_t widths[MOST_COLUMNS]; /* of the widest cell; 0: a column that says nothing in any row */
    bool hidden[MOST_COLUMNS];
    bool titled;
    struct libscols_table *portion; /* being filled */
    size_t lines;
    const char *colours[PORTION];
};

/* Columns a cell takes on a terminal, as fill_line fills it. */
static size_t width_of(const struct mosaicum_cell *x, bool last) {
    size_t n = columns_of(x->text, strlen(x->text));
    if (x->kind == MOSAICUM_EXTENT)
        return PLACE_WIDTH;
    return last || n < LONGEST_CELL ? n : LONGEST_CELL;
}

static bool measure_row(void *self, const struct mosaicum_cell *cells) {
    struct drawing *d = self;
    for (size_t c = 0; c < d->t->column_count; c++) {
        size_t n = width_of(&cells[c], c + 1 == d->t->column_count);
        d->widths[c] = n > d->widths[c] ? n : d->widths[c];
    }
    return true;
}

/* Leaves out what says nothing, and, where the terminal is too narrow, optional columns from the
 * right. */
static void choose_columns(struct drawing *d) {
    const struct mosaicum_table *t = d->t;
    size_t total = 0;
    for (size_t c = 0; c < t->column_count; c++) {
        size_t title = columns_of(t->columns[c].title, strlen(t->columns[c].title));
        d->hidden[c] = !d->widths[c];
        d->widths[c] = d->widths[c] > title ? d->widths[c] : title;
        d->titled |= title != 0;
        total += d->hidden[c] ? 0 : 2 + d->widths[c];
    }
    for (size_t c = t->column_count; c-- && d->cli->width && total > (size_t)d->cli->width;)
        if (t->columns[c].optional && !d->hidden[c]) {
            d->hidden[c] = true;
            total -= 2 + d->widths[c];
        }
}

/* ---- drawing ---- */

/* The colour of a row: bad news, or about nothing of the user's (free space, a table's own place).
 */
static const char *colour_of(const struct drawing *d, const struct mosaicum_cell *cells) {
    bool aside = false;
    for (size_t c = 0; c < d->t->column_count; c++) {
        if (cells[c].kind == MOSAICUM_ALARM)
            return style(d->cli, STYLE_ERROR);
        aside |= cells[c].text[0] == '(';
    }
    return aside && d->t->asides ? style(d->cli, STYLE_DIM) : "";
}

/* The lines of a portion as it was laid out, each in its colour; the first may be the titles. */
static void print_lines(const struct drawing *d, const char *text) {
    for (size_t line = 0; *text; line++) {
        size_t n = strcspn(text, "\n"), row = line - d->titled;
        const char *colour = d->titled && !line ? style(d->cli, STYLE_DIM)
                             : row < d->lines   ? d->colours[row]
                                                : "";
        fprintf(d->to, "%s%.*s%s\n", colour, (int)n, text, *colour ? style(d->cli, STYLE_END) : "");
        text += n + (text[n] == '\n');
    }
}

static bool start_portion(struct drawing *d) {
    struct libscols_table *table = d->portion = scols_new_table();
    if (!table)
        return false;
    scols_table_set_column_separator(table, "  ");
    scols_table_enable_nowrap(table, true);
    scols_table_enable_noheadings(table, !d->titled);
    for (size_t c = 0; c < d->t->column_count; c++) {
        /* one portion lays itself out; where there are several they must agree */
        double width = d->t->row_count > PORTION ? (double)d->widths[c] : 0;
        int flags =
            (d->t->columns[c].right ? SCOLS_FL_RIGHT : 0) | (d->hidden[c] ? SCOLS_FL_HIDDEN : 0);
        if (!scols_table_new_column(table, d->t->columns[c].title, width, flags))
            return false;
    }
    return true;
}

static bool end_portion(struct drawing *d) {
    char *text = NULL;
    bool good = scols_print_table_to_string(d->portion, &text) == 0 && text;
    if (good)
        print_lines(d, text);
    free(text);
    scols_unref_table(d->portion);
    d->portion = NULL;
    d->titled = false;
    d->lines = 0;
    return good;
}

static bool draw_row(void *self, const struct mosaicum_cell *cells) {
    struct drawing *d = self;
    if (!d->portion && !start_portion(d))
        return false;
    struct libscols_line *line = scols_table_new_line(d->portion, NULL);
    if (!line)
        return false;
    fill_line(d->cli, line, d->t, cells);
    d->colours[d->lines++] = colour_of(d, cells);
    return d->lines < PORTION || end_portion(d);
}

void print_table(const struct cli *cli, mosaicum *m, const struct mosaicum_table *t, FILE *to) {
    struct drawing *d = calloc(1, sizeof *d);
    assert(t->column_count <= MOST_COLUMNS);
    bool good = d != NULL;
    if (good) {
        d->cli = cli;
        d->t = t;
        d->to = to;
        good = mosaicum_table_rows(m, t, measure_row, d);
        choose_columns(d);
        good = good && mosaicum_table_rows(m, t, draw_row, d) && (!d->portion || end_portion(d));
        scols_unref_table(d->portion);
        free(d);
    }
    if (!good)
        out_give_up("there is not enough memory for this table");
}
