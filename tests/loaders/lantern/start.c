/* Lantern in a rehearsal: its stored variables, its file, and the five words that it knows. */
#include "loaders/lantern/lantern.h"

#include "rehearse/sim.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_WORDS = 8, MOST_SCRIPT = 64 << 10 };

/* What its own words have settled so far. */
struct lantern {
    struct sim_disk *disk;
    const char *arguments;
};

static struct lantern *own(const struct sim *s) {
    return s->own;
}

/* "40200000h" */
static bool address(const char *text, uint64_t *out) {
    char *end;
    *out = strtoull(text, &end, 16);
    return end != text && strcmp(end, "h") == 0;
}

static int bring(struct sim *s, int count, const char *const *words) {
    uint64_t at;
    if (count != 4 || !address(words[3], &at))
        return sim_trouble(s, "bring PARTITION FILE ADDRESS");
    struct sim_volume *v = sim_volume(s, own(s)->disk, (unsigned)strtoul(words[1], NULL, 10));
    const struct sim_file *f =
        v->is_there && sim_loader_reads(s, v) ? sim_file(s, v, words[2]) : NULL;
    if (!f || f->type != MOS_ENTRY_FILE)
        return sim_trouble(s, "there is no %s on partition %s", words[2], words[1]);
    if (sim_load(s, v, f, 0, f->size, f->size, at) != SIM_LOADED)
        return sim_trouble(s, "%s cannot be brought to %s", words[2], words[3]);
    return 0;
}

static int tell(struct sim *s, int count, const char *const *words) {
    struct mos_buf b = {.arena = s->arena};
    for (int i = 1; i < count; i++)
        mos_buf_printf(&b, "%s%s", i > 1 ? " " : "", words[i]);
    own(s)->arguments = mos_buf_string(&b);
    return 0;
}

static int leave(struct sim *s, int count, const char *const *words) {
    struct sim_boot *b = &s->boot;
    uint64_t at;
    *b = (struct sim_boot){0};
    if (count < 2 || !address(words[1], &at) || !sim_kernel_at(s, at))
        return sim_trouble(s, "nothing there can be left to");
    b->runs_at = at;
    b->runs_size = b->header.running_size;
    for (int i = 2; i + 1 < count; i += 2) {
        const struct sim_thing *t = address(words[i + 1], &at) ? sim_ram_at(s, at) : NULL;
        if (!t)
            return sim_trouble(s, "there is no %s at %s", words[i], words[i + 1]);
        bool tree = strcmp(words[i], "tree") == 0;
        *(tree ? &b->tree : &b->ramdisk) = at;
        *(tree ? &b->tree_size : &b->ramdisk_size) = t->span.length;
        *(tree ? &b->tree_from : &b->ramdisk_from) = t;
        sim_note_harm(s, words[i], t, at, t->span.length);
    }
    if (sim_refused(s))
        return 1;
    sim_print(s, "lantern out\n");
    sim_hand(s, own(s)->arguments);
    return 0;
}

static int light(struct sim *s, int count, const char *const *words) {
    sim_try(s, count > 1 ? words[1] : NULL);
    sim_print(s, "lantern: %s\n", count > 1 ? words[1] : "");
    return 0;
}

static int again(struct sim *s, int count, const char *const *words) {
    (void)count;
    (void)words;
    s->stop = SIM_RESET;
    return 0;
}

static int run_line(struct sim *s, char *text) {
    static const struct {
        const char *name;
        int (*run)(struct sim *s, int count, const char *const *words);
    } all[] = {
        {"bring", bring}, {"tell", tell}, {"leave", leave}, {"light", light}, {"again", again}};
    const char *words[MOST_WORDS];
    int count = 0;
    for (char *p = strtok(text, " "); p && count < MOST_WORDS; p = strtok(NULL, " "))
        words[count++] = mos_strdup(s->arena, p);
    s->words = words;
    s->word_count = count;
    int code = -1;
    for (size_t i = 0; count && code < 0 && i < sizeof all / sizeof *all; i++)
        if (strcmp(all[i].name, words[0]) == 0)
            code = all[i].run(s, count, words);
    if (count && code < 0)
        code = sim_trouble(s, "What is %s?", words[0]);
    s->words = NULL;
    s->word_count = 0;
    return code;
}

/* A line that fails ends its entry: the next "light" begins another. */
static void run_script(struct sim *s, const char *text) {
    bool skip = false;
    while (*text && s->stop == SIM_GOES_ON) {
        size_t n = strcspn(text, "\n");
        char *line = mos_strndup(s->arena, text, n);
        skip = skip && strncmp(line, "light ", 6) != 0 && strcmp(line, "again") != 0;
        if (n > LANTERN_LINE && !skip)
            skip =
                sim_trouble(s, "a line of %zu characters: this lantern takes %d", n, LANTERN_LINE);
        else if (n && *line != ';' && !skip)
            skip = run_line(s, line) != 0;
        text += n + (text[n] == '\n');
    }
}

static void wake(struct sim *s) {
    struct mos_map all;
    bool flag;
    s->own = mos_alloc(s->arena, sizeof(struct lantern));
    *own(s) = (struct lantern){.arguments = ""};
    s->env = mos_map_make(s->arena);
    for (size_t i = 0; i < s->rig->environment_count; i++) {
        const struct mos_rig_environment *e = &s->rig->environments[i];
        uint8_t *data = mos_alloc(s->arena, (size_t)e->size);
        if (e->file || mos_io_read(e->medium->io, data, (size_t)e->size, e->at) ||
            !s->dialect->stored->read(s->arena, data, (size_t)e->size, &all, &flag))
            continue;
        sim_event(s, MOS_EVENT_READ, 0, e->size, e->medium->name, "%s", e->what);
        for (size_t k = 0; k < all.count; k++) {
            const struct mos_loader_variable *v = all.items[k].value;
            sim_set(s, v->name, v->value);
        }
        return;
    }
}

static void start(struct sim *s) {
    size_t length;
    if (sim_get(s, "dark"))
        sim_trouble(s, "it is kept dark: nothing is started");
    for (size_t i = 0; i < s->rig->media_count && s->stop == SIM_GOES_ON && !sim_get(s, "dark");
         i++) {
        own(s)->disk = sim_disk_of(s, &s->rig->media[i]);
        struct sim_volume *v = sim_volume(s, own(s)->disk, 1);
        const struct sim_file *f =
            v->is_there && sim_loader_reads(s, v) ? sim_file(s, v, LANTERN_SCRIPT) : NULL;
        const uint8_t *bytes = f ? sim_file_bytes(s, v, f, MOST_SCRIPT, &length) : NULL;
        if (bytes)
            run_script(s, mos_strndup(s->arena, (const char *)bytes, length));
        else
            sim_trouble(s, "there is no " LANTERN_SCRIPT);
    }
}

const struct sim_loader lantern_simulated = {.wake = wake, .start = start};
