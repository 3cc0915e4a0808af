/* complete: what may stand at the end of a command line, for the shells (share/completion).  It
 * prints one word a line; status 1 says that names of files may stand there, too.  Everything comes
 * from the rows of commands and options, from the workspace, or from the image that is named. */
#include "cli/options.h"

#include <stdlib.h>
#include <string.h>

struct completion {
    struct cli *cli;
    const char *word; /* so far */
};

static void offer(const struct completion *c, const char *word) {
    if (strncmp(word, c->word, strlen(c->word)) == 0)
        fprintf(to_out, "%s\n", word);
}

static void offer_words(const struct completion *c, const char *list) {
    for (const char *p = list; *p; p += strspn(p, " ")) {
        char word[64];
        size_t n = strcspn(p, " ");
        snprintf(word, sizeof word, "%.*s", (int)n, p);
        offer(c, word);
        p += n;
    }
}

/* ---- from the workspace and from images ---- */

/* What a table tells in the first of some columns that says something, by their places. */
struct columns {
    const struct completion *c;
    size_t first, second;
};

static bool offer_cell(void *self, const struct mosaicum_cell *cells) {
    const struct columns *x = self;
    const char *text = cells[*cells[x->first].text ? x->first : x->second].text;
    char word[256]; /* without the mark of a partition that is started */
    snprintf(word, sizeof word, "%.*s", (int)strcspn(text, "*"), text);
    for (size_t n = strlen(word); n && word[n - 1] == ' ';)
        word[--n] = 0;
    if (*word)
        offer(x->c, word);
    return true;
}

static size_t place_of(const struct mosaicum_table *t, const char *key) {
    size_t i = 0;
    while (i + 1 < t->column_count && strcmp(t->columns[i].key, key) != 0)
        i++;
    return i;
}

static void offer_cells(const struct completion *c, mosaicum *m, const char *key,
                        const char *otherwise) {
    const struct mosaicum_table *t = mosaicum_table_at(m, 0);
    struct columns x = {c, place_of(t, key), place_of(t, otherwise)};
    mosaicum_table_rows(m, t, offer_cell, &x);
}

static void offer_selectors(const struct completion *c) {
    if (!c->cli->workspace && !cli_find_workspace())
        return;
    mosaicum *m = cli_open(c->cli, true);
    if (m && mosaicum_list(m) <= MOSAICUM_FINDINGS && mosaicum_table_count(m))
        offer_cells(c, m, "selector", "selector");
    mosaicum_free(m);
}

/* Does "files 2 root" or "files 1 nand/root" tell of a region? */
static bool is_region(const char *key, const char *region, size_t length) {
    for (const char *p = key + strcspn(key, " "); *p;) {
        p += strspn(p, " /");
        size_t n = strcspn(p, " /");
        if (n == length && strncmp(p, region, n) == 0)
            return true;
        p += n;
    }
    return strlen(key) == 6 + length && strncmp(key + 6, region, length) == 0;
}

/* Names right below the folder that the word names so far. */
static bool offer_file(void *self, const struct mosaicum_cell *cells) {
    const struct completion *c = self;
    const char *colon = strchr(c->word, ':'), *path = cells[0].text;
    const char *slash = strrchr(colon, '/');
    size_t folder = slash ? (size_t)(slash - colon) : 0; /* of the path, its slash included */
    if (strncmp(path, colon + 1, folder) != 0 || strchr(path + folder, '/'))
        return true;
    size_t n = strlen(c->word) + strlen(path) + 3;
    char *word = malloc(n);
    if (word) {
        snprintf(word, n, "%.*s%s%s", (int)(colon + 1 - c->word), c->word, path,
                 strcmp(cells[1].text, "folder") == 0 ? "/" : "");
        offer(c, word);
    }
    free(word);
    return true;
}

static void offer_regions(const struct completion *c, const char *image) {
    const char *colon = strchr(c->word, ':');
    mosaicum *m = cli_open(c->cli, false);
    int status = m ? (int)mosaicum_inspect(m, image, colon != NULL) : MOSAICUM_SYSTEM;
    for (size_t i = 0; status <= MOSAICUM_FINDINGS && i < mosaicum_table_count(m); i++) {
        const struct mosaicum_table *t = mosaicum_table_at(m, i);
        struct completion copy = *c;
        if (!colon && i == 0) {
            offer_cells(c, m, "name", "label");
        } else if (colon && strncmp(t->key, "files ", 6) == 0 &&
                   is_region(t->key, c->word, (size_t)(colon - c->word))) {
            mosaicum_table_rows(m, t, offer_file, &copy);
        }
    }
    mosaicum_free(m);
}

/* ---- by commands ---- */

static void offer_commands(const struct completion *c) {
    for (size_t i = 0; command_at(i); i++)
        if (command_at(i)->about)
            offer(c, command_at(i)->name);
}

static void offer_rules(const struct completion *c) {
    const struct mosaicum_rule *rules;
    size_t count = mosaicum_rules(&rules);
    for (size_t i = 0; i < count; i++)
        offer(c, rules[i].id);
    offer(c, "keys");
}

static void offer_options(const struct completion *c, const struct command *of) {
    const struct option_row *r;
    for (size_t i = 0; (r = option_at(i)); i++) {
        char word[64];
        snprintf(word, sizeof word, "--%s", r->name);
        if (option_is_of(r, NULL) || (of && option_is_of(r, of)))
            offer(c, word);
    }
}

/* What an option takes; false: names of files. */
static bool offer_values(const struct completion *c, const struct option_row *r) {
    static const struct {
        const char *value, *words;
    } kinds[] = {{"WHEN", "auto always never"},
                 {"CPU", "arm64 arm riscv64"},
                 {"KIND", "sd emmc usb nvme"},
                 {"SIZE", ""},
                 {"ADDRESS", ""},
                 {"PORT", "ttyS0 ttyAMA0 ttyS1"},
                 {"SPEED", "115200 9600 1500000"},
                 {"MEDIUM", ""}};
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++)
        if (strcmp(r->value, kinds[i].value) == 0) {
            offer_words(c, kinds[i].words);
            return true;
        }
    return false;
}

enum kind { NOTHING, SELECTOR, PART, IMAGE, REGION, RULE, WORD, FOLDER };

/* What a command's arguments are; the last kind goes on. */
static const struct {
    const char *command;
    enum kind kinds[3];
} arguments[] = {{"check", {SELECTOR, SELECTOR, SELECTOR}},
                 {"build", {SELECTOR, SELECTOR, SELECTOR}},
                 {"pin", {SELECTOR, SELECTOR, SELECTOR}},
                 {"show", {SELECTOR, PART, NOTHING}},
                 {"compare", {SELECTOR, SELECTOR, NOTHING}},
                 {"inspect", {IMAGE, NOTHING, NOTHING}},
                 {"take", {IMAGE, REGION, NOTHING}},
                 {"amend", {IMAGE, REGION, REGION}},
                 {"rehearse", {SELECTOR, NOTHING, NOTHING}},
                 {"explain", {RULE, NOTHING, NOTHING}},
                 {"listen", {SELECTOR, NOTHING, NOTHING}},
                 {"learn", {SELECTOR, NOTHING, NOTHING}},
                 {"send", {IMAGE, IMAGE, IMAGE}},
                 {"serve", {SELECTOR, SELECTOR, SELECTOR}},
                 {"help", {WORD, NOTHING, NOTHING}},
                 {"demo", {FOLDER, NOTHING, NOTHING}}};

/* The argument of a number (from 0) of a command; true: names of files may stand there, too. */
static bool offer_argument(const struct completion *c, const char *command, size_t number,
                           const char *first) {
    enum kind kind = NOTHING;
    for (size_t i = 0; i < sizeof arguments / sizeof *arguments; i++)
        if (strcmp(arguments[i].command, command) == 0)
            kind = arguments[i].kinds[number < 2 ? number : 2];
    bool parts = strcmp(command, "show") == 0, whole = strcmp(command, "compare") == 0;
    if (kind == SELECTOR)
        offer_selectors(c);
    if (kind == PART || (parts && kind == SELECTOR))
        for (size_t i = 0; mosaicum_show_part_at(i); i++)
            offer(c, mosaicum_show_part_at(i));
    if (kind == REGION)
        offer_regions(c, first);
    if (kind == WORD) {
        offer_commands(c);
        offer(c, "status");
    }
    if (kind == RULE || kind == WORD)
        offer_rules(c);
    return kind == IMAGE || kind == FOLDER || whole || strcmp(command, "rehearse") == 0;
}

/* The words before the last one are a command line as far as it goes. */
static int run(struct cli *cli) {
    const char **words = cli->arguments, *first = NULL;
    size_t count = (size_t)cli->argument_count, number = 0;
    const struct command *command = NULL;
    const struct option_row *wanting = NULL; /* an option whose value comes next */
    struct completion c = {cli, count ? words[count - 1] : ""};
    for (size_t i = 0; i + 1 < count; i++) {
        const struct option_row *r = NULL;
        for (size_t k = 0; words[i][0] == '-' && (r = option_at(k)); k++)
            if (words[i][1] == '-' ? strcmp(words[i] + 2, r->name) == 0
                                   : r->letter && words[i][1] == r->letter && !words[i][2])
                break;
        if (wanting) {
            cli->workspace = strcmp(wanting->name, "workspace") == 0 ? words[i] : cli->workspace;
            wanting = NULL;
        } else if (words[i][0] == '-') {
            wanting = r && r->value ? r : NULL;
        } else if (!command) {
            command = command_named(words[i]);
            if (!command)
                return MOSAICUM_DONE;
        } else {
            first = number++ ? first : words[i];
        }
    }
    if (wanting)
        return offer_values(&c, wanting) ? MOSAICUM_DONE : MOSAICUM_FINDINGS;
    if (c.word[0] == '-')
        offer_options(&c, command);
    else if (!command)
        offer_commands(&c);
    else
        return offer_argument(&c, command->name, number, first) ? MOSAICUM_FINDINGS : MOSAICUM_DONE;
    return MOSAICUM_DONE;
}

const struct command command_complete = {
    .name = "complete",
    .usage = "WORD…",
    .most = -1,
    .run = run,
};
