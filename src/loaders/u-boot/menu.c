#include "loaders/u-boot/menu.h"

#include <assert.h>
#include <ctype.h>
#include <stdlib.h>
#include <string.h>

enum key {
    LABEL,
    MENU,
    USUAL,
    ONTIMEOUT,
    TIMEOUT,
    PROMPT,
    INCLUDE,
    KERNEL,
    APPEND,
    INITRD,
    FDT,
    FDTDIR,
    OVERLAYS,
    LOCALBOOT,
    IPAPPEND,
    SEED,
};

static const struct {
    const char *word;
    enum key key;
} words[] = {{"label", LABEL},
             {"menu", MENU},
             {"default", USUAL},
             {"ontimeout", ONTIMEOUT},
             {"timeout", TIMEOUT},
             {"prompt", PROMPT},
             {"kernel", KERNEL},
             {"linux", KERNEL},
             {"append", APPEND},
             {"initrd", INITRD},
             {"fdt", FDT},
             {"devicetree", FDT},
             {"fdtdir", FDTDIR},
             {"devicetreedir", FDTDIR},
             {"fdtoverlays", OVERLAYS},
             {"devicetree-overlay", OVERLAYS},
             {"localboot", LOCALBOOT},
             {"include", INCLUDE},
             {"ipappend", IPAPPEND},
             {"kaslrseed", SEED}};
enum { WORDS = sizeof words / sizeof *words, MOST_ENTRIES = 256, DEEPEST = 16, MOST_INCLUDED = 64 };

static bool same_word(const char *word, const char *text, size_t length) {
    if (strlen(word) != length)
        return false;
    for (size_t i = 0; i < length; i++)
        if (tolower((unsigned char)text[i]) != word[i])
            return false;
    return true;
}

/* What follows a key word: the rest of the line, blanks at its end included, as the loader has it.
 */
static const char *rest(struct mos_arena *arena, const char *p, const char *end) {
    while (p < end && isspace((unsigned char)*p))
        p++;
    return mos_strndup(arena, p, (size_t)(end - p));
}

struct reading {
    struct mos_arena *arena;
    struct mos_menu *m;
    const struct mos_menu_files *files;
    struct mos_menu_entry *e; /* that what follows belongs to; NULL: none */
    unsigned depth, included;
};

static void read_text(struct reading *r, const char *text, size_t length);

/* The lines of another file, in place of this one. */
static void include(struct reading *r, const char *path) {
    const char *text = NULL;
    size_t length;
    if (!r->files) {
        mos_buf_printf(&r->m->said, "Not read: %s\n", path);
        return;
    }
    if (!r->files->read(r->files->self, r->m, path, &text, &length)) {
        mos_buf_printf(&r->m->said, "Couldn't retrieve %s\n", path);
        r->m->wrong = true;
        return;
    }
    if (r->depth >= DEEPEST || r->included >= MOST_INCLUDED) {
        mos_buf_printf(&r->m->said, "Maximum nesting (%d) exceeded\n", DEEPEST);
        r->m->wrong = true;
        return;
    }
    r->depth++;
    r->included++;
    r->e = NULL;
    read_text(r, text, length);
    r->e = NULL;
    r->depth--;
}

static void take_menu(struct reading *r, const char *value) {
    size_t n = strcspn(value, " \t\r");
    const char *of = rest(r->arena, value + n, value + strlen(value));
    if (!r->e && same_word("title", value, n))
        r->m->title = of;
    else if (!r->e && same_word("include", value, n))
        include(r, of);
    else if (r->e && same_word("label", value, n))
        r->e->title = of;
    else if (r->e && same_word("default", value, n))
        r->m->usual = r->e->name;
    else
        mos_buf_printf(&r->m->said, "Ignoring malformed menu command: %.*s\n", (int)n, value);
}

/* Where the value of an entry's key word goes; NULL: it has none that is text. */
static const char **text_of(struct mos_menu_entry *e, enum key key) {
    return key == KERNEL     ? &e->kernel
           : key == APPEND   ? &e->arguments
           : key == INITRD   ? &e->ramdisk
           : key == FDT      ? &e->tree
           : key == FDTDIR   ? &e->tree_folder
           : key == OVERLAYS ? &e->overlays
                             : NULL;
}

/* "initrd=" among the arguments names a ramdisk, where nothing else has. */
static void take_ramdisk(struct reading *r) {
    const char *text = r->e->ramdisk ? NULL : strstr(r->e->arguments, "initrd=");
    if (text)
        r->e->ramdisk = mos_strndup(r->arena, text + 7, strcspn(text + 7, " "));
}

static void take(struct reading *r, enum key key, const char *value) {
    struct mos_menu *m = r->m;
    if (key == LABEL) {
        r->e = m->entries.count < MOST_ENTRIES ? mos_vec_push(&m->entries) : NULL;
        if (r->e)
            r->e->name = value;
        return;
    }
    if (key == MENU) {
        m->prompt |= !r->e; /* a line about the menu itself: it is shown, and asks */
        take_menu(r, value);
        return;
    }
    if (key < KERNEL)
        r->e = NULL; /* it ends an entry */
    if (key == USUAL || key == ONTIMEOUT)
        m->usual = value;
    else if (key == TIMEOUT)
        m->timeout = (unsigned)strtoul(value, NULL, 10);
    else if (key == INCLUDE)
        include(r, value);
    if (!r->e)
        return;
    if (key == LOCALBOOT) {
        r->e->local = true;
        r->e->stays = strtol(value, NULL, 10) < 0;
    }
    const char **to = text_of(r->e, key);
    if (to)
        *to = value;
    if (key == APPEND)
        take_ramdisk(r);
}

/* The value of a key word that cannot do without one. */
static bool lacks_value(const struct reading *r, enum key key, const char *value) {
    bool text = key == LABEL || key == USUAL || key == ONTIMEOUT || key == INCLUDE ||
                (r->e && key >= KERNEL && key <= OVERLAYS);
    bool number = key == TIMEOUT || (r->e && (key == LOCALBOOT || key == IPAPPEND));
    if (*value || (!text && !number))
        return false;
    mos_buf_printf(&r->m->said, "Expected string%s: \n\n", text ? " literal" : "");
    if (key == LABEL)
        mos_buf_text(&r->m->said, "Expected label name: \n\n");
    if (key == INCLUDE)
        mos_buf_text(&r->m->said, "Expected include path: \n\n");
    return true;
}

/* What an entry has been told already, the loader does not take: it takes the value for a word. */
static bool is_again(const struct reading *r, enum key key) {
    bool once = key == INITRD || key == FDT || key == FDTDIR || key == OVERLAYS;
    return r->e && once && *text_of(r->e, key);
}

static void ignore(struct reading *r, const char *from, const char *stop) {
    const char *p = from;
    while (p < stop && isspace((unsigned char)*p))
        p++;
    while (p < stop && *p && !isspace((unsigned char)*p))
        p++;
    mos_buf_printf(&r->m->said, "Ignoring unknown command: %.*s\n", (int)(p - from), from);
    r->e = NULL; /* what is not known ends an entry */
}

static void read_line(struct reading *r, const char *line, const char *stop) {
    const char *p = line;
    size_t n = 0, i = 0;
    while (p < stop && isspace((unsigned char)*p))
        p++;
    while (p + n < stop && !isspace((unsigned char)p[n]) && p[n])
        n++;
    while (i < WORDS && !same_word(words[i].word, p, n))
        i++;
    if (!n || *p == '#')
        return;
    if (i == WORDS || (!r->e && words[i].key >= KERNEL)) {
        ignore(r, line, stop);
    } else if (is_again(r, words[i].key)) {
        ignore(r, p + n, stop);
    } else {
        const char *value = rest(r->arena, p + n, stop);
        r->m->wrong = lacks_value(r, words[i].key, value);
        if (!r->m->wrong)
            take(r, words[i].key, value);
    }
}

static void read_text(struct reading *r, const char *text, size_t length) {
    const char *end = text + length;
    for (const char *p = text; p < end && !r->m->wrong;) {
        const char *line_end = memchr(p, '\n', (size_t)(end - p));
        const char *stop = line_end ? line_end : end;
        read_line(r, p, stop);
        p = stop + 1;
    }
}

struct mos_menu mos_menu_read(struct mos_arena *arena, const char *text, size_t length,
                              const struct mos_menu_files *files) {
    assert(text || !length);
    struct mos_menu m = {.entries = mos_vec_make(arena, sizeof(struct mos_menu_entry)),
                         .said = {.arena = arena}};
    struct reading r = {.arena = arena, .m = &m, .files = files, .depth = 1};
    read_text(&r, text, length);
    return m;
}

const struct mos_menu_entry *mos_menu_find(const struct mos_menu *menu, const char *name) {
    for (size_t i = 0; i < menu->entries.count; i++) {
        const struct mos_menu_entry *e = mos_vec_at(&menu->entries, i);
        if (!name || strcmp(e->name, name) == 0)
            return e;
    }
    return NULL;
}

static void line(struct mos_buf *out, const char *word, const char *value) {
    if (value && *value)
        mos_buf_printf(out, "\t%s %s\n", word, value);
}

void mos_menu_write(const struct mos_menu *m, const char *heading, struct mos_buf *out) {
    mos_buf_printf(out, "# %s\n", heading);
    if (m->timeout) /* without one the loader would ask, and wait for ever */
        mos_buf_printf(out, "MENU TITLE %s\nTIMEOUT %u\n", m->title ? m->title : "", m->timeout);
    if (m->usual)
        mos_buf_printf(out, "DEFAULT %s\n", m->usual);
    for (size_t i = 0; i < m->entries.count; i++) {
        const struct mos_menu_entry *e = mos_vec_at(&m->entries, i);
        mos_buf_printf(out, "\nLABEL %s\n", e->name);
        line(out, "MENU LABEL", e->title);
        line(out, "KERNEL", e->kernel);
        line(out, "INITRD", e->ramdisk);
        line(out, "FDT", e->tree);
        line(out, "FDTDIR", e->tree_folder);
        line(out, "FDTOVERLAYS", e->overlays);
        line(out, "APPEND", e->arguments);
    }
}
