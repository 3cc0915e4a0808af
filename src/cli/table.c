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
    PORTION = 1024, /* rows that are laid out at once */
    INDENT = 4,     /* of what does not fit beside the rest of its row */
    LEAST_WIDTH = 20,
    LEAST_ROOM = 36 /* in which the last column may go on below itself */
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
    bool hidden[MOST_COLUMNS], no_room[MOST_COLUMNS];
    unsigned group[MOST_COLUMNS]; /* which line of its row a column stands on; 0: the first */
    unsigned groups;
    size_t beside; /* where the last column begins, which goes on below itself; 0: it does not */
    bool titled;
    struct libscols_table *portion[MOST_COLUMNS]; /* being filled; one a group, NULL: none is */
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

/* About nothing of the user's: unused space, a table's own place. */
static bool is_aside(const struct mosaicum_table *t, const struct mosaicum_cell *cells) {
    bool aside = false;
    for (size_t c = 0; c < t->column_count && t->asides; c++)
        aside |= cells[c].text[0] == '(';
    return aside;
}

/* Shown only on request; the sum of them stands below the table. */
static bool is_folded(const struct drawing *d, const struct mosaicum_cell *cells) {
    return !d->cli->verbose && is_aside(d->t, cells);
}

static bool measure_row(void *self, const struct mosaicum_cell *cells) {
    struct drawing *d = self;
    for (size_t c = 0; c < d->t->column_count && !is_folded(d, cells); c++) {
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
            d->hidden[c] = d->no_room[c] = true;
            total -= 2 + d->widths[c];
        }
}

/* What does not fit beside each other goes on lines of its own, below the row, and a last column
 * with room enough goes on below itself: nothing is cut. */
static void group_columns(struct drawing *d) {
    size_t width = d->cli->width > LEAST_WIDTH ? (size_t)d->cli->width : LEAST_WIDTH, used = 0;
    size_t last = d->t->column_count;
    while (last && d->hidden[last - 1])
        last--;
    d->groups = 1;
    for (size_t c = 0; c < d->t->column_count; c++) {
        size_t before = used ? used + 2 : 0, room = width - (d->groups > 1 ? INDENT : 0);
        bool fits = d->hidden[c] || !d->cli->width || !used || before + d->widths[c] <= room;
        if (!fits && c + 1 == last && d->groups == 1 && !d->t->columns[c].right &&
            before + LEAST_ROOM <= room) {
            d->beside = before;
        } else if (!fits) {
            d->groups++;
            before = 0;
        }
        d->group[c] = d->groups - 1;
        used = d->hidden[c] ? used : before + d->widths[c];
    }
}

/* ---- drawing ---- */

/* The colour of a row: bad news, or about nothing of the user's. */
static const char *colour_of(const struct drawing *d, const struct mosaicum_cell *cells) {
    for (size_t c = 0; c < d->t->column_count; c++)
        if (cells[c].kind == MOSAICUM_ALARM)
            return style(d->cli, STYLE_ERROR);
    return is_aside(d->t, cells) ? style(d->cli, STYLE_DIM) : "";
}

/* One line; what is longer than the terminal goes on below, from word to word. */
static void print_line(const struct drawing *d, const char *text, size_t length, size_t indent,
                       const char *colour) {
    size_t width = d->cli->width > LEAST_WIDTH ? (size_t)d->cli->width : LEAST_WIDTH;
    while (length && text[length - 1] == ' ')
        length--;
    do {
        size_t n = length;
        if (d->cli->width && columns_of(text, length) + indent > width) {
            size_t most = 0, columns = 0;
            for (; most < length && columns + indent < width; most++)
                columns += ((unsigned char)text[most + 1] & 0xc0) != 0x80;
            for (n = most; n && text[n] != ' ';)
                n--;
            n = n > most / 2 ? n : most; /* a word longer than that is broken */
        }
        fprintf(d->to, "%*s%s%.*s%s\n", (int)indent, "", colour, (int)n, text,
                *colour ? style(d->cli, STYLE_END) : "");
        for (text += n, length -= n; length && *text == ' '; length--)
            text++;
        indent = d->beside ? d->beside : 2 * INDENT;
    } while (length);
}

/* The lines of a portion as they were laid out, each in its colour; the first may be the titles. */
static void print_lines(const struct drawing *d, char *const *texts) {
    const char *at[MOST_COLUMNS];
    for (unsigned g = 0; g < d->groups; g++)
        at[g] = texts[g];
    for (size_t line = 0; *at[0]; line++) {
        size_t row = line - d->titled;
        const char *colour = d->titled && !line ? style(d->cli, STYLE_DIM)
                             : row < d->lines   ? d->colours[row]
                                                : "";
        for (unsigned g = 0; g < d->groups; g++) {
            size_t n = strcspn(at[g], "\n");
            if (!g || strspn(at[g], " ") < n) /* nothing to tell there */
                print_line(d, at[g], n, g ? INDENT : 0, colour);
            at[g] += n + (at[g][n] == '\n');
        }
    }
}

static struct libscols_table *start_group(const struct drawing *d, unsigned group) {
    struct libscols_table *table = scols_new_table();
    if (!table)
        return NULL;
    scols_table_set_column_separator(table, "  ");
    scols_table_enable_nowrap(table, true);
    scols_table_set_termforce(table, SCOLS_TERMFORCE_NEVER); /* print_line() knows the width */
    scols_table_enable_noheadings(table, !d->titled);
    for (size_t c = 0; c < d->t->column_count; c++) {
        /* one portion lays itself out; where there are several they must agree */
        double width = d->t->row_count > PORTION ? (double)d->widths[c] : 0;
        int flags = (d->t->columns[c].right ? SCOLS_FL_RIGHT : 0) |
                    (d->hidden[c] || d->group[c] != group ? SCOLS_FL_HIDDEN : 0);
        if (scols_table_new_column(table, d->t->columns[c].title, width, flags))
            continue;
        scols_unref_table(table);
        return NULL;
    }
    return table;
}

static bool start_portion(struct drawing *d) {
    bool good = true;
    for (unsigned g = 0; g < d->groups && good; g++)
        good = (d->portion[g] = start_group(d, g)) != NULL;
    return good;
}

static void end_tables(struct drawing *d) {
    for (unsigned g = 0; g < d->groups; g++) {
        scols_unref_table(d->portion[g]);
        d->portion[g] = NULL;
    }
}

static bool end_portion(struct drawing *d) {
    char *texts[MOST_COLUMNS] = {NULL};
    bool good = true;
    for (unsigned g = 0; g < d->groups && good; g++)
        good = scols_print_table_to_string(d->portion[g], &texts[g]) == 0 && texts[g];
    if (good)
        print_lines(d, texts);
    for (unsigned g = 0; g < d->groups; g++)
        free(texts[g]);
    end_tables(d);
    d->titled = false;
    d->lines = 0;
    return good;
}

static bool draw_row(void *self, const struct mosaicum_cell *cells) {
    struct drawing *d = self;
    if (is_folded(d, cells))
        return true;
    if (!d->portion[0] && !start_portion(d))
        return false;
    for (unsigned g = 0; g < d->groups; g++) {
        struct libscols_line *line = scols_table_new_line(d->portion[g], NULL);
        if (!line)
            return false;
        fill_line(d->cli, line, d->t, cells);
    }
    d->colours[d->lines++] = colour_of(d, cells);
    return d->lines < PORTION || end_portion(d);
}

/* What the folded rows come to; which columns say something and were left out. */
static void tell_hidden(const struct drawing *d) {
    char sum[512];
    int n = d->t->asides && !d->cli->verbose
                ? snprintf(sum, sizeof sum, "(%s; -v: each of them)", one_line(d->t->asides))
                : 0;
    if (n > 0)
        print_line(d, sum, strlen(sum), 0, style(d->cli, STYLE_DIM));
    bool any = false;
    for (size_t c = 0; c < d->t->column_count; c++)
        if (d->no_room[c]) {
            fprintf(d->to, "%s%s", any ? ", " : style(d->cli, STYLE_DIM),
                    any ? "" : "(not shown at this width: ");
            fputs(d->t->columns[c].title, d->to);
            any = true;
        }
    if (any)
        fprintf(d->to, ")%s\n", style(d->cli, STYLE_END));
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
        group_columns(d);
        good = good && mosaicum_table_rows(m, t, draw_row, d) && (!d->portion[0] || end_portion(d));
        end_tables(d);
        tell_hidden(d);
        free(d);
    }
    if (!good)
        out_give_up("there is not enough memory for this table");
}
