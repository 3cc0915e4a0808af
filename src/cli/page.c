/* Pages of the documentation on a terminal: Markdown as far as our own pages use it. */
#include "cli/cli.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_CELLS = 4, GAP = 2, STACKED = 4 };

struct row {
    char *cells[MOST_CELLS];
};

static size_t length_of(const char *line) {
    return strcspn(line, "\n");
}

static const char *after(const char *line) {
    line += length_of(line);
    return line + (*line == '\n');
}

/* ---- tables ---- */

/* A cell without its backquotes and the blanks around it; malloc'ed, NULL: no memory. */
static char *cell_text(const char *text, size_t length) {
    char *out = malloc(length + 1);
    size_t n = 0;
    for (size_t i = 0; i < length && out; i++)
        if (text[i] != '`' && !(text[i] == '\\' && i + 1 < length && text[i + 1] == '|') &&
            (n || text[i] != ' '))
            out[n++] = text[i];
    while (n && out[n - 1] == ' ')
        n--;
    if (out)
        out[n] = 0;
    return out;
}

static bool is_rule(const char *line) { /* |---|---| */
    return strspn(line, "|-: ") == length_of(line);
}

static void read_row(const char *line, struct row *r) {
    const char *end = line + length_of(line);
    *r = (struct row){0};
    for (size_t i = 0; i < MOST_CELLS && line + 1 < end; i++) {
        const char *from = ++line;
        while (line < end && (*line != '|' || line[-1] == '\\'))
            line++;
        r->cells[i] = cell_text(from, (size_t)(line - from));
    }
}

static void print_row(const struct cli *cli, const struct row *r, const size_t *widths,
                      size_t count, bool head, FILE *to) {
    size_t column = 0;
    fputs(head ? style(cli, STYLE_DIM) : "", to);
    for (size_t i = 0; i + 1 < count; i++) {
        const char *text = r->cells[i] ? r->cells[i] : "";
        size_t n = columns_of(text, strlen(text));
        fprintf(to, "%s%*s", text, (int)(widths[i] - n + GAP), "");
        column += widths[i] + GAP;
    }
    const char *last = count && r->cells[count - 1] ? r->cells[count - 1] : "";
    if (cli->width && column + widths[count - 1] > (size_t)cli->width &&
        column > (size_t)cli->width / 2) { /* a line of its own is wider than what is left */
        fprintf(to, "\n%*s", STACKED, "");
        column = STACKED;
    }
    print_words(cli, column, column, last, to);
    fputs(head ? style(cli, STYLE_END) : "", to);
}

/* The table that begins here; returns what stands behind it. */
static const char *print_table_of(const struct cli *cli, const char *text, FILE *to) {
    size_t most = 1;
    for (const char *line = text; *line == '|'; line = after(line))
        most++;
    struct row *rows = calloc(most, sizeof *rows);
    size_t count = 0, cells = 0, widths[MOST_CELLS] = {0};
    for (; *text == '|'; text = after(text)) {
        if (!rows || is_rule(text))
            continue;
        read_row(text, &rows[count]);
        for (size_t i = 0; i < MOST_CELLS && rows[count].cells[i]; i++) {
            size_t n = columns_of(rows[count].cells[i], strlen(rows[count].cells[i]));
            widths[i] = n > widths[i] ? n : widths[i];
            cells = i + 1 > cells ? i + 1 : cells;
        }
        count++;
    }
    for (size_t k = 0; k < count; k++) {
        if (cells)
            print_row(cli, &rows[k], widths, cells, k == 0, to);
        for (size_t i = 0; i < MOST_CELLS; i++)
            free(rows[k].cells[i]);
    }
    free(rows);
    return text;
}

/* ---- text ---- */

static bool is_fence(const char *line) {
    return strncmp(line, "```", 3) == 0;
}

static bool is_text(const char *line) {
    return *line && *line != '\n' && *line != '#' && *line != '|' && !is_fence(line);
}

/* A paragraph becomes lines as wide as the terminal; elsewhere it stays as it is. */
static const char *print_paragraph(const struct cli *cli, const char *text, FILE *to) {
    const char *end = after(text);
    while (cli->width && is_text(end) && *end != '-' && *end != ' ')
        end = after(end);
    char *joined = strndup(text, (size_t)(end - text));
    size_t indent = strspn(text, " ") + (*text == '-' ? 2 : 0);
    for (char *p = joined; p && *p; p++)
        *p = *p == '\n' ? ' ' : *p;
    size_t n = joined ? strlen(joined) : 0;
    while (n && joined[n - 1] == ' ')
        joined[--n] = 0;
    print_words(cli, 0, indent, joined ? joined : "", to);
    free(joined);
    return end;
}

static const char *print_code(const char *text, FILE *to) {
    for (text = after(text); *text && !is_fence(text); text = after(text))
        fprintf(to, "    %.*s\n", (int)length_of(text), text);
    return after(text);
}

void print_markdown(const struct cli *cli, const char *text, FILE *to) {
    while (*text) {
        if (is_fence(text)) {
            text = print_code(text, to);
        } else if (*text == '|') {
            text = print_table_of(cli, text, to);
        } else if (*text == '#') {
            size_t hashes = strspn(text, "#");
            hashes += text[hashes] == ' ';
            fprintf(to, "%s%.*s%s\n", style(cli, STYLE_STRONG), (int)(length_of(text) - hashes),
                    text + hashes, style(cli, STYLE_END));
            text = after(text);
        } else if (is_text(text)) {
            text = print_paragraph(cli, text, to);
        } else {
            fputc('\n', to);
            text = after(text);
        }
    }
}
