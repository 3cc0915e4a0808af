#include "cli/cli.h"

#include <stdlib.h>
#include <string.h>

/* ---- findings ---- */

/* Prints bytes of a source line: tabs as blanks, control characters as '?'. */
static void put_source(FILE *to, const char *text, size_t length) {
    for (size_t i = 0; i < length; i++)
        fputc(text[i] == '\t' ? ' ' : (unsigned char)text[i] < 0x20 ? '?' : text[i], to);
}

size_t columns_of(const char *text, size_t length) {
    size_t n = 0;
    for (size_t i = 0; i < length; i++)
        n += ((unsigned char)text[i] & 0xc0) != 0x80;
    return n;
}

void print_words(const struct cli *cli, size_t column, size_t indent, const char *text, FILE *to) {
    size_t room = cli->width > 40 ? (size_t)cli->width : SIZE_MAX;
    bool first = true;
    for (const char *p = text; *p;) {
        size_t blanks = strspn(p, " "), n = strcspn(p + blanks, " "),
               wide = columns_of(p + blanks, n);
        if (!first && column + blanks + wide > room) {
            fprintf(to, "\n%*s", (int)indent, "");
            column = indent;
        } else {
            fprintf(to, "%.*s", (int)blanks, p);
            column += blanks;
        }
        fprintf(to, "%.*s", (int)n, p + blanks);
        column += wide;
        p += blanks + n;
        first = false;
    }
    fputc('\n', to);
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
    size_t from, length, mark = p->column - 1, width = p->length, lead = 0;
    const char *more = cli->unicode ? "\u2026" : "...";
    clip(p, room - 2 * (cli->unicode ? 1 : 3), &from, &length);
    while (lead < from && (p->source_line[lead] == ' ' || p->source_line[lead] == '\t'))
        lead++;
    more = from == lead && from + length == p->source_length ? "" : more;
    const char *before = from > lead ? more : "";
    fprintf(to, "  %s%s%s %s%-*s%s   ", style(cli, STYLE_DIM), corner, style(cli, STYLE_END),
            style(cli, STYLE_DIM), label_width, label, style(cli, STYLE_END));
    fputs(before, to);
    put_source(to, p->source_line + from, length);
    fputs(from + length < p->source_length ? more : "", to);
    if (mark + width > from + length)
        width = from + length > mark ? from + length - mark : 0;
    width = width ? columns_of(p->source_line + mark, width) : 1;
    fprintf(to, "\n  %s%s%s %*s", style(cli, STYLE_DIM), below, style(cli, STYLE_END),
            label_width + 3 + (int)columns_of(before, strlen(before)) +
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
    fputs("  ", to);
    print_words(cli, 2, 2, one_line(f->message), to);
    print_places(cli, f, to);
    const char *const parts[][2] = {{"why", f->why}, {"try", f->remedy}};
    for (size_t i = 0; i < 2; i++)
        if (parts[i][1]) {
            fprintf(to, "  %s%s%s  ", style(cli, STYLE_DIM), parts[i][0], style(cli, STYLE_END));
            print_words(cli, 7, 7, one_line(parts[i][1]), to);
        }
    fputc('\n', to);
}

void print_findings(const struct cli *cli, const mosaicum *m, FILE *to) {
    for (size_t i = 0; i < mosaicum_finding_count(m); i++) {
        const struct mosaicum_finding *f = mosaicum_finding_at(m, i);
        if (f->severity != MOSAICUM_NOTE || !cli->quiet)
            print_finding(cli, f, to);
    }
    for (size_t i = 0; i < mosaicum_not_proved_count(m) && cli->verbose; i++) {
        static const char lead[] = "not proved: ";
        fputs(lead, to);
        print_words(cli, sizeof lead - 1, 4, one_line(mosaicum_not_proved_at(m, i)), to);
    }
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
    bool narrow = cli->width && cli->width < 116;
    fprintf(to, ".%smosaicum explain RULE tells more about one.\n", narrow ? "\n" : "  ");
}

void print_tables(const struct cli *cli, mosaicum *m, FILE *to) {
    for (size_t i = 0; i < mosaicum_table_count(m) && !cli->json; i++) {
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
            print_table(cli, m, t, to);
    }
}

void print_report(const struct cli *cli, mosaicum *m, FILE *to) {
    if (!mosaicum_error(m))
        print_tables(cli, m, to);
}

/* ---- errors ---- */

/* A sentence; what stands on lines of its own behind it is quoted (the end of a log). */
static void print_error(const struct cli *cli, const char *text) {
    bool first = true;
    fprintf(to_err, "%smosaicum:%s ", style(cli, STYLE_ERROR), style(cli, STYLE_END));
    for (size_t n; *text; text += n + (text[n] == '\n')) {
        n = strcspn(text, "\n");
        char *line = strndup(text, n);
        print_words(cli, first ? sizeof "mosaicum:" : 0, 4, line ? one_line(line) : "", to_err);
        free(line);
        first = false;
    }
}

int print_result(const struct cli *cli, mosaicum *m, const char *command, int status) {
    progress_clear();
    if (cli->json) {
        out_json(true);
        print_json(m, command, status, to_out);
        out_json(false);
        return status;
    }
    print_findings(cli, m, cli->aside ? to_err : to_out);
    if (mosaicum_error(m)) {
        fflush(to_out);
        print_error(cli, mosaicum_error(m));
    }
    return status;
}
