/* Writes the manual pages from the rows of commands, options and keys:  make-pages FOLDER */
#include "cli/options.h"
#include "platform/platform.h"

#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

/* Text as the formatter takes it: hyphens that are minus signs, `words` in bold, no line that looks
 * like a request. */
static void put(FILE *to, const char *text, size_t length) {
    bool bold = false;
    for (size_t i = 0; i < length; i++) {
        char c = text[i];
        if ((c == '.' || c == '\'') && (i == 0 || text[i - 1] == '\n'))
            fputs("\\&", to);
        if (c == '`') {
            bold = !bold;
            fputs(bold ? "\\fB" : "\\fR", to);
        } else if (c == '\\') {
            fputs("\\e", to);
        } else if (c == '-') {
            fputs("\\-", to);
        } else {
            fputc(c, to);
        }
    }
}

static void put_text(FILE *to, const char *text) {
    put(to, text, strlen(text));
    fputc('\n', to);
}

static FILE *start(const char *folder, const char *name, int section, const char *about) {
    char path[1024];
    snprintf(path, sizeof path, "%s/man%d", folder, section);
    mkdir(path, 0777);
    snprintf(path, sizeof path, "%s/man%d/%s.%d", folder, section, name, section);
    FILE *to = fopen(path, "w");
    if (!to) {
        perror(path);
        exit(3);
    }
    fprintf(to, ".TH \"%s\" %d \"\" \"mosaicum %s\"\n.SH NAME\n", name, section,
            mosaicum_version());
    put(to, name, strlen(name));
    fputs(" \\- ", to);
    put_text(to, about);
    return to;
}

static void put_options(FILE *to, const struct command *c) {
    const struct option_row *r;
    for (size_t i = 0; (r = option_at(i)); i++) {
        if (!option_is_of(r, c))
            continue;
        fputs(".TP\n", to);
        if (r->letter)
            fprintf(to, "\\fB\\-%c\\fR, ", r->letter);
        fputs("\\fB\\-\\-", to);
        put(to, r->name, strlen(r->name));
        fprintf(to, "\\fR%s%s\n", r->value ? " \\fI" : "", r->value ? r->value : "");
        if (r->value)
            fputs("\\fR", to);
        put_text(to, r->help);
    }
}

static void put_see_also(FILE *to, const struct command *without) {
    fputs(".SH SEE ALSO\n", to);
    fprintf(to, "%s", without ? "\\fBmosaicum\\fR(1)" : "\\fBmosaicum\\-definition\\fR(5)");
    for (size_t i = 0; command_at(i); i++)
        if (command_at(i) != without && command_at(i)->about)
            fprintf(to, ", \\fBmosaicum\\-%s\\fR(1)", command_at(i)->name);
    fprintf(to, "%s\n", without ? ", \\fBmosaicum\\-definition\\fR(5)" : "");
}

static void write_statuses(FILE *to) {
    static const char *const statuses[] = {"Done.", "Done, and there are findings.",
                                           "Wrong usage, or a file that cannot be read.",
                                           "The system failed.", "Refused for safety."};
    fputs(".SH EXIT STATUS\n", to);
    for (int i = 0; i < 5; i++)
        fprintf(to, ".TP\n\\fB%d\\fR\n%s\n", i, statuses[i]);
}

static void write_command(const char *folder, const struct command *c) {
    char name[64];
    snprintf(name, sizeof name, "mosaicum-%s", c->name);
    FILE *to = start(folder, name, 1, c->about);
    fprintf(to, ".SH SYNOPSIS\n\\fBmosaicum %s\\fR ", c->name);
    put_text(to, c->usage);
    fputs(".SH DESCRIPTION\n", to);
    put_text(to, c->details);
    if (options_of(c)) {
        fputs(".SH OPTIONS\nThose of every command are in \\fBmosaicum\\fR(1).\n", to);
        put_options(to, c);
    }
    write_statuses(to);
    fputs(".SH EXAMPLES\n.nf\n", to);
    put_text(to, c->examples);
    fputs(".fi\n", to);
    put_see_also(to, c);
    fclose(to);
}

static void write_program(const char *folder) {
    FILE *to = start(folder, "mosaicum", 1,
                     "checks what is on a board against itself, and builds its images");
    fputs(
        ".SH SYNOPSIS\n\\fBmosaicum\\fR \\fICOMMAND\\fR [\\fIARGUMENTS\\fR] [\\fIOPTIONS\\fR]\n"
        ".SH DESCRIPTION\nA board is described in text: hardware, pieces, loader, kernel, device "
        "trees, boot and layout of the media. It is checked against itself, built into images that "
        "can be flashed, and its boot is rehearsed before anything is written.\n"
        ".SH COMMANDS\n",
        to);
    for (size_t i = 0; command_at(i); i++) {
        const struct command *c = command_at(i);
        if (!c->about)
            continue;
        fprintf(to, ".TP\n\\fB%s\\fR ", c->name);
        put_text(to, c->usage);
        put_text(to, c->about);
    }
    fputs(".SH OPTIONS\nThese are taken by every command.\n", to);
    put_options(to, NULL);
    write_statuses(to);
    fputs(".SH FILES\n.TP\n\\fImosaicum.yaml\\fR\nThe workspace; see "
          "\\fBmosaicum\\-definition\\fR(5).\n"
          ".TP\n\\fIout/SELECTOR/\\fR\nWhat was built, with its \\fIledger.json\\fR.\n"
          ".TP\n\\fI~/.cache/mosaicum\\fR\nWhat is kept between runs; it may be removed at any "
          "time.\n"
          ".SH ENVIRONMENT\n.TP\n\\fBXDG_CACHE_HOME\\fR\nAnother place than \\fI~/.cache\\fR.\n"
          ".TP\n\\fBNO_COLOR\\fR\nNo colours.\n",
          to);
    put_see_also(to, NULL);
    fclose(to);
}

/* "| `at` | size | offset on the medium |" */
static void write_key(FILE *to, const char *line, size_t length) {
    const char *cells[3] = {NULL};
    size_t lengths[3] = {0}, n = 0;
    for (const char *p = line + 2; n < 3 && p < line + length; n++) {
        const char *end = strstr(p, n < 2 ? " | " : " |");
        if (!end || end >= line + length)
            return;
        cells[n] = p;
        lengths[n] = (size_t)(end - p);
        p = end + 3;
    }
    fputs(".TP\n", to);
    put(to, cells[0], lengths[0]);
    fputs("  \\fI", to);
    put(to, cells[1], lengths[1]);
    fputs("\\fR\n", to);
    put(to, cells[2], lengths[2]);
    fputc('\n', to);
}

static int write_definition(const char *folder) {
    struct mosaicum_options o = {.host = mos_platform_host(), .workspace = "."};
    mosaicum *m = mosaicum_new(&o);
    const char *text;
    if (!m || mosaicum_reference(m, &text) != MOSAICUM_DONE)
        return 3;
    FILE *to = start(folder, "mosaicum-definition", 5, "every key of a board's definition");
    fputs(
        ".SH DESCRIPTION\nA workspace is a folder with \\fImosaicum.yaml\\fR; each board is a file "
        "below \\fIboards/\\fR. Where a value is a map of names, each name has the keys of the "
        "section that is named there.\n",
        to);
    for (const char *line = text; *line; line += strcspn(line, "\n") + 1) {
        size_t n = strcspn(line, "\n");
        if (strncmp(line, "## ", 3) == 0) {
            fputs(".SH ", to);
            put(to, line + 3, n - 3);
            fputc('\n', to);
        } else if (strncmp(line, "| `", 3) == 0) {
            write_key(to, line, n);
        } else if (n && line[0] != '|') {
            put(to, line, n);
            fputc('\n', to);
        }
    }
    put_see_also(to, NULL);
    fclose(to);
    mosaicum_free(m);
    return 0;
}

int main(int argc, char **argv) {
    if (argc != 2)
        return 2;
    mkdir(argv[1], 0777);
    write_program(argv[1]);
    for (size_t i = 0; command_at(i); i++)
        if (command_at(i)->about)
            write_command(argv[1], command_at(i));
    return write_definition(argv[1]);
}
