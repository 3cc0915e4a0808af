#include "boot/menu.h"

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
    KERNEL,
    FIT,
    APPEND,
    INITRD,
    FDT,
    FDTDIR,
    OVERLAYS,
    LOCALBOOT,
    IGNORED,
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
             {"fit", FIT},
             {"append", APPEND},
             {"initrd", INITRD},
             {"fdt", FDT},
             {"devicetree", FDT},
             {"fdtdir", FDTDIR},
             {"devicetreedir", FDTDIR},
             {"fdtoverlays", OVERLAYS},
             {"devicetree-overlay", OVERLAYS},
             {"localboot", LOCALBOOT},
             {"say", IGNORED},
             {"ipappend", IGNORED}};
enum { WORDS = sizeof words / sizeof *words, MOST_ENTRIES = 256 };

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

static void take_menu(struct mos_arena *arena, struct mos_menu *m, struct mos_menu_entry *e,
                      const char *value) {
    size_t n = strcspn(value, " \t");
    if (same_word("title", value, n))
        m->title = rest(arena, value + n, value + strlen(value));
    else if (e && same_word("label", value, n))
        e->title = rest(arena, value + n, value + strlen(value));
    else if (e && same_word("default", value, n))
        m->usual = e->name;
}

/* What follows belongs to the entry that is returned; NULL: to none. */
static struct mos_menu_entry *take(struct mos_arena *arena, struct mos_menu *m,
                                   struct mos_menu_entry *e, enum key key, const char *value) {
    switch (key) {
    case LABEL:
        if (m->entries.count >= MOST_ENTRIES)
            return NULL;
        e = mos_vec_push(&m->entries);
        e->name = value;
        return e;
    case MENU:
        m->prompt |= !e; /* a line about the menu itself: it is shown, and asks */
        take_menu(arena, m, e, value);
        return e;
    case USUAL:
    case ONTIMEOUT:
        m->usual = value;
        return NULL;
    case TIMEOUT:
        m->timeout = (unsigned)strtoul(value, NULL, 10);
        return NULL;
    case PROMPT:
        m->prompt = strtoul(value, NULL, 10) != 0;
        return NULL;
    case IGNORED:
        return e;
    default:
        break;
    }
    if (!e)
        return NULL;
    const char **to = key == APPEND     ? &e->arguments
                      : key == INITRD   ? &e->ramdisk
                      : key == FDT      ? &e->tree
                      : key == FDTDIR   ? &e->tree_folder
                      : key == OVERLAYS ? &e->overlays
                                        : &e->kernel;
    if (key == LOCALBOOT)
        e->local = true;
    else
        *to = value;
    return e;
}

/* The value of a key word that cannot do without one. */
static bool lacks_value(struct mos_menu *m, enum key key, bool inside, const char *value) {
    bool needed = key == LABEL || key == USUAL || key == ONTIMEOUT ||
                  (inside && key >= KERNEL && key <= OVERLAYS);
    if (!needed || *value)
        return false;
    mos_buf_text(&m->said, "Expected string literal: \n\n");
    if (key == LABEL)
        mos_buf_text(&m->said, "Expected label name: \n\n");
    return true;
}

struct mos_menu mos_menu_read(struct mos_arena *arena, const char *text, size_t length) {
    struct mos_menu m = {.entries = mos_vec_make(arena, sizeof(struct mos_menu_entry)),
                         .said = {.arena = arena}};
    struct mos_menu_entry *e = NULL;
    const char *end = text + length;
    for (const char *p = text; p < end && !m.wrong;) {
        const char *line_end = memchr(p, '\n', (size_t)(end - p));
        const char *stop = line_end ? line_end : end, *from = p;
        while (p < stop && isspace((unsigned char)*p))
            p++;
        size_t n = 0;
        while (p + n < stop && !isspace((unsigned char)p[n]) && p[n])
            n++;
        size_t i = 0;
        while (i < WORDS && !same_word(words[i].word, p, n))
            i++;
        if (n && *p != '#') { /* what is not known ends an entry */
            const char *value = rest(arena, p + n, stop);
            m.wrong = i < WORDS && lacks_value(&m, words[i].key, e != NULL, value);
            if (i == WORDS || (!e && words[i].key >= KERNEL))
                mos_buf_printf(&m.said, "Ignoring unknown command: %.*s\n", (int)(p + n - from),
                               from);
            e = i < WORDS && !m.wrong ? take(arena, &m, e, words[i].key, value) : NULL;
        }
        p = stop + 1;
    }
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
