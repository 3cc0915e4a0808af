#include "cli/cli.h"

#include <libsmartcols/libsmartcols.h>
#include <stdlib.h>
#include <string.h>

/* ---- findings ---- */

/* Prints bytes of a source line: tabs as blanks, control characters as '?'. */
static void put_source(FILE *to, const char *text, size_t length) {
    for (size_t i = 0; i < length; i++)
        fputc(text[i] == '\t' ? ' ' : (unsigned char)text[i] < 0x20 ? '?' : text[i], to);
}

/* Columns that bytes of UTF-8 take on a terminal (each character counts as one). */
static size_t columns_of(const char *text, size_t length) {
    size_t n = 0;
    for (size_t i = 0; i < length; i++)
        n += ((unsigned char)text[i] & 0xc0) != 0x80;
    return n;
}

/* The part of a long line that is shown: `from` and `length` in bytes, around the mark. */
static void clip(const struct mosaicum_place *p, size_t room, size_t *from, size_t *length) {
    size_t lead = 0, mark = p->column - 1;
    while (lead < p->source_length && lead < mark &&
           (p->source_line[lead] == ' ' || p->source_line[lead] == '\t'))
        lead++;
    *from = lead;
    *length = p->source_length - lead;
    if (*length <= room)
        return;
    if (mark + p->length > lead + room)
        *from = p->length < room ? mark + p->length - room : mark;
    while (*from < mark && ((unsigned char)p->source_line[*from] & 0xc0) == 0x80)
        ++*from;
    *length = p->source_length - *from < room ? p->source_length - *from : room;
}

/* A source line without the blanks around it. */
static const char *trimmed(const struct mosaicum_place *p) {
    size_t lead = 0;
    while (lead < p->source_length && p->source_line[lead] == ' ')
        lead++;
    return p->source_line + lead;
}

static size_t trimmed_length(const struct mosaicum_place *p) {
    size_t n = p->source_length - (size_t)(trimmed(p) - p->source_line);
    return n < 80 ? n : 80;
}

static void print_place(const struct cli *cli, const struct mosaicum_place *p, const char *corner,
                        const char *below, int label_width, FILE *to) {
    char label[256];
    if (!p->file) {
        fprintf(to, "  %s%s%s %s\n", style(cli, STYLE_DIM), corner, style(cli, STYLE_END),
                p->thing ? one_line(p->thing) : "");
        return;
    }
    snprintf(label, sizeof label, "%s:%u", one_line(p->file), p->line);
    size_t room = cli->width > label_width + 20 ? (size_t)(cli->width - label_width - 8) : 110;
    size_t from, length, mark = p->column - 1, width = p->length;
    clip(p, room, &from, &length);
    fprintf(to, "  %s%s%s %s%-*s%s   ", style(cli, STYLE_DIM), corner, style(cli, STYLE_END),
            style(cli, STYLE_DIM), label_width, label, style(cli, STYLE_END));
    put_source(to, p->source_line + from, length);
    if (mark + width > from + length)
        width = from + length > mark ? from + length - mark : 0;
    width = width ? columns_of(p->source_line + mark, width) : 1;
    fprintf(to, "\n  %s%s%s %*s", style(cli, STYLE_DIM), below, style(cli, STYLE_END),
            label_width + 3 +
                (int)columns_of(p->source_line + from, mark >= from ? mark - from : 0),
            "");
    fputs(style(cli, STYLE_ERROR), to);
    for (size_t i = 0; i < width; i++)
        fputs(cli->unicode ? "\u203e" : "~", to);
    fprintf(to, "%s\n", style(cli, STYLE_END));
    for (size_t i = 0; i < p->replaced_count; i++)
        fprintf(to, "  %s%s instead of %s:%u   %.*s%s\n", style(cli, STYLE_DIM), below,
                p->replaced[i].file, p->replaced[i].line, (int)trimmed_length(&p->replaced[i]),
                trimmed(&p->replaced[i]), style(cli, STYLE_END));
}

static void print_places(const struct cli *cli, const struct mosaicum_finding *f, FILE *to) {
    /* first, between and last; beside the marks of all but the last; one alone */
    static const char *const fine[] = {"\u250c", "\u251c", "\u2514", "\u2502", "\u2500"};
    static const char *const simple[] = {",", "|", "`", "|", "-"};
    const char *const *sign = cli->unicode ? fine : simple;
    int width = 0;
    for (size_t i = 0; i < f->place_count; i++)
        if (f->places[i].file) {
            int n = snprintf(NULL, 0, "%s:%u", f->places[i].file, f->places[i].line);
            width = n > width ? n : width;
        }
    for (size_t i = 0; i < f->place_count; i++) {
        bool last = i + 1 == f->place_count;
        const char *corner = f->place_count == 1 ? sign[4]
                             : i == 0            ? sign[0]
                             : last              ? sign[2]
                                                 : sign[1];
        print_place(cli, &f->places[i], corner, last ? " " : sign[3], width, to);
    }
}

static void print_finding(const struct cli *cli, const struct mosaicum_finding *f, FILE *to) {
    static const char *const names[] = {"ERROR", "WARNING", "NOTE"};
    static const enum style styles[] = {STYLE_ERROR, STYLE_WARNING, STYLE_NOTE};
    fprintf(to, "%s%s%s  %s%s%s%s%s\n", style(cli, styles[f->severity]), names[f->severity],
            style(cli, STYLE_END), style(cli, STYLE_STRONG), f->rule, style(cli, STYLE_END),
            f->selector ? "  " : "", f->selector ? one_line(f->selector) : "");
    fprintf(to, "  %s\n", one_line(f->message));
    print_places(cli, f, to);
    if (f->why)
        fprintf(to, "  %swhy%s  %s\n", style(cli, STYLE_DIM), style(cli, STYLE_END),
                one_line(f->why));
    if (f->remedy)
        fprintf(to, "  %stry%s  %s\n", style(cli, STYLE_DIM), style(cli, STYLE_END),
                one_line(f->remedy));
    fputc('\n', to);
}

void print_findings(const struct cli *cli, const mosaicum *m, FILE *to) {
    for (size_t i = 0; i < mosaicum_finding_count(m); i++) {
        const struct mosaicum_finding *f = mosaicum_finding_at(m, i);
        if (f->severity != MOSAICUM_NOTE || !cli->quiet)
            print_finding(cli, f, to);
    }
    for (size_t i = 0; i < mosaicum_not_proved_count(m) && cli->verbose; i++)
        fprintf(to, "not proved: %s\n", one_line(mosaicum_not_proved_at(m, i)));
}

static void count(char *out, size_t size, size_t n, const char *one) {
    snprintf(out, size, "%zu %s%s", n, one, n == 1 ? "" : "s");
}

void print_unproved(const struct cli *cli, const mosaicum *m, FILE *to) {
    size_t n = mosaicum_not_proved_count(m);
    if (n)
        fprintf(to, "; %zu thing%s could not be checked%s", n, n == 1 ? "" : "s",
                cli->verbose ? ", see above" : " (mosaicum check -v)");
}

void print_summary(const struct cli *cli, const mosaicum *m, FILE *to) {
    char errors[32], warnings[32];
    size_t e = mosaicum_count(m, MOSAICUM_ERROR), w = mosaicum_count(m, MOSAICUM_WARNING);
    count(errors, sizeof errors, e, "error");
    count(warnings, sizeof warnings, w, "warning");
    if (!e && !w)
        return;
    fprintf(to, "%s%s, %s%s", style(cli, e ? STYLE_ERROR : STYLE_WARNING), errors, warnings,
            style(cli, STYLE_END));
    print_unproved(cli, m, to);
    fprintf(to, ".  mosaicum explain RULE tells more about one.\n");
}

/* ---- tables ---- */

enum { LONGEST_CELL = 60, PLACE_WIDTH = 24 };

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
                      const struct mosaicum_table *t, size_t row) {
    for (size_t c = 0; c < t->column_count; c++) {
        const struct mosaicum_cell *x = &t->cells[row * t->column_count + c];
        const char *text = one_line(x->text);
        char drawn[PLACE_WIDTH * 4];
        if (x->kind == MOSAICUM_EXTENT) {
            draw_extent(cli, x->number, drawn, sizeof drawn);
            scols_line_set_data(line, c, drawn);
            continue;
        }
        if (t->row_count > 1 && c + 1 < t->column_count)
            fill_cell(cli, line, c, text);
        else
            scols_line_set_data(line, c, text);
    }
}

/* A row that is not about a thing of the user's: free space, a table's own place. */
static bool is_aside(const struct mosaicum_table *t, size_t row) {
    for (size_t c = 0; c < t->column_count; c++)
        if (t->cells[row * t->column_count + c].text[0] == '(')
            return true;
    return false;
}

/* A row with bad news. */
static bool is_alarm(const struct mosaicum_table *t, size_t row) {
    for (size_t c = 0; c < t->column_count; c++)
        if (t->cells[row * t->column_count + c].kind == MOSAICUM_ALARM)
            return true;
    return false;
}

/* A column that says nothing in any row need not be drawn. */
static bool is_empty_column(const struct mosaicum_table *t, size_t column) {
    for (size_t r = 0; r < t->row_count; r++)
        if (t->cells[r * t->column_count + column].text[0] ||
            t->cells[r * t->column_count + column].kind == MOSAICUM_EXTENT)
            return false;
    return t->row_count != 0;
}

/* Columns a cell takes on a terminal, as fill_line fills it. */
static size_t width_of(const struct mosaicum_cell *x, bool last) {
    size_t n = columns_of(x->text, strlen(x->text));
    if (x->kind == MOSAICUM_EXTENT)
        return PLACE_WIDTH;
    return last || n < LONGEST_CELL ? n : LONGEST_CELL;
}

/* Which columns are left out because the terminal is too narrow: optional ones, from the right. */
static uint64_t left_out(const struct cli *cli, const struct mosaicum_table *t) {
    size_t total = 0, widths[64] = {0};
    uint64_t out = 0;
    for (size_t c = 0; c < t->column_count && c < 64; c++) {
        for (size_t r = 0; r < t->row_count; r++) {
            size_t n = width_of(&t->cells[r * t->column_count + c], c + 1 == t->column_count);
            widths[c] = n > widths[c] ? n : widths[c];
        }
        size_t title = columns_of(t->columns[c].title, strlen(t->columns[c].title));
        if (!is_empty_column(t, c))
            total += 2 + (widths[c] > title ? widths[c] : title);
    }
    for (size_t c = t->column_count; c-- && cli->width && total > (size_t)cli->width;)
        if (c < 64 && t->columns[c].optional && !is_empty_column(t, c)) {
            out |= 1ull << c;
            total -= 2 + widths[c];
        }
    return out;
}

/* The lines of a table as it was laid out, each in its colour; the first may be the titles. */
static void print_rows(const struct cli *cli, const struct mosaicum_table *t, const char *text,
                       bool titled, FILE *to) {
    for (size_t line = 0; *text; line++) {
        size_t n = strcspn(text, "\n"), row = line - titled;
        bool title = titled && !line, known = !title && row < t->row_count;
        const char *colour = title                                    ? style(cli, STYLE_DIM)
                             : known && is_alarm(t, row)              ? style(cli, STYLE_ERROR)
                             : known && t->asides && is_aside(t, row) ? style(cli, STYLE_DIM)
                                                                      : "";
        fprintf(to, "%s%.*s%s\n", colour, (int)n, text, *colour ? style(cli, STYLE_END) : "");
        text += n + (text[n] == '\n');
    }
}

static void print_table(const struct cli *cli, const struct mosaicum_table *t, FILE *to) {
    struct libscols_table *table = scols_new_table();
    uint64_t hidden = left_out(cli, t);
    if (!table)
        return;
    scols_table_set_column_separator(table, "  ");
    scols_table_enable_nowrap(table, true);
    for (size_t c = 0; c < t->column_count; c++) {
        scols_table_new_column(
            table, t->columns[c].title, 0,
            (t->columns[c].right ? SCOLS_FL_RIGHT : 0) |
                (is_empty_column(t, c) || hidden >> c & 1 ? SCOLS_FL_HIDDEN : 0));
    }
    bool titled = false;
    for (size_t c = 0; c < t->column_count; c++)
        titled |= t->columns[c].title[0] != 0;
    scols_table_enable_noheadings(table, !titled);
    for (size_t r = 0; r < t->row_count; r++) {
        struct libscols_line *line = scols_table_new_line(table, NULL);
        if (line)
            fill_line(cli, line, t, r);
    }
    char *text = NULL;
    if (scols_print_table_to_string(table, &text) == 0 && text)
        print_rows(cli, t, text, titled, to);
    free(text);
    scols_unref_table(table);
}

void print_report(const struct cli *cli, const mosaicum *m, FILE *to) {
    if (cli->json || mosaicum_error(m))
        return;
    for (size_t i = 0; i < mosaicum_table_count(m); i++) {
        const struct mosaicum_table *t = mosaicum_table_at(m, i);
        if (i)
            fputc('\n', to);
        if (t->title)
            fprintf(to, "%s%s%s\n",
                    style(cli, t->alarm        ? STYLE_ERROR
                               : t->title_only ? STYLE_GOOD
                                               : STYLE_STRONG),
                    one_line(t->title), style(cli, STYLE_END));
        if (t->text)
            fputs(t->text, to);
        else if (t->row_count && !t->title_only)
            print_table(cli, t, to);
    }
}

/* ---- pages ---- */

static void print_line(const struct cli *cli, const char *line, size_t length, bool *code,
                       FILE *to) {
    if (length >= 3 && memcmp(line, "```", 3) == 0) {
        *code = !*code;
        return;
    }
    size_t hashes = 0;
    while (!*code && hashes < length && line[hashes] == '#')
        hashes++;
    if (hashes) {
        hashes += hashes < length && line[hashes] == ' ';
        fprintf(to, "%s%.*s%s\n", style(cli, STYLE_STRONG), (int)(length - hashes), line + hashes,
                style(cli, STYLE_END));
        return;
    }
    fprintf(to, "%s%.*s\n", *code ? "    " : "", (int)length, line);
}

void print_markdown(const struct cli *cli, const char *text, FILE *to) {
    bool code = false;
    while (*text) {
        size_t n = strcspn(text, "\n");
        print_line(cli, text, n, &code, to);
        text += n + (text[n] == '\n');
    }
}

int print_result(const struct cli *cli, const mosaicum *m, const char *command, int status) {
    progress_clear();
    if (cli->json) {
        out_json(true);
        print_json(m, command, status, to_out);
        out_json(false);
        return status;
    }
    print_findings(cli, m, to_out);
    if (mosaicum_error(m)) {
        fflush(to_out);
        fprintf(to_err, "%smosaicum:%s %s\n", style(cli, STYLE_ERROR), style(cli, STYLE_END),
                one_line(mosaicum_error(m)));
    }
    return status;
}
