/* new --from: how an image starts.  It is rehearsed; what was read on the way to the kernel becomes
 * pieces, and what the kernel was told becomes arguments. */
#include "api/draft_internal.h"
#include "api/rig.h"

#include "base/text.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_ENTRIES = 8 };

/* ---- what would start it ---- */

struct search {
    const struct mos_loader_search *for_what;
    const char *found; /* the path; NULL: nothing */
    size_t rank;       /* of it, in the order of looking */
    const char *to;
    struct mos_arena *arena;
};

/* Loaders look in / and in /boot. */
static bool look_for_start(void *self, const struct mos_entry *e) {
    struct search *s = self;
    for (size_t i = 0; e->type == MOS_ENTRY_FILE && s->for_what->files && s->for_what->files[i];
         i++)
        for (int folder = 0; folder < 2; folder++) {
            const char *path = folder ? mos_printf(s->arena, "boot/%s", s->for_what->files[i])
                                      : s->for_what->files[i];
            size_t rank = 2 * i + (size_t)folder;
            if (strcmp(e->path, path) != 0 || (s->found && s->rank <= rank))
                continue;
            s->found = mos_strdup(s->arena, path);
            s->rank = rank;
            s->to = folder ? "boot" : "";
        }
    return true;
}

/* The first volume with something that a loader looks for. */
static bool find_start(struct draft *x, struct survey *s, const struct mos_dialect *dialect,
                       struct draft_boot *out) {
    for (size_t i = 0; i < s->spans.count && !out->file; i++) {
        const struct survey_span *p = mos_vec_at(&s->spans, i);
        struct search search = {.for_what = &dialect->search, .arena = x->m->arena};
        struct mos_sink sink = {&search, look_for_start, mos_ignore_data, mos_ignore_end};
        struct mos_read_request request = {.sink = &sink, .wants = mos_wants_no_data};
        if (!p->partition || !survey_has_files(p) || !p->volume.driver ||
            !survey_stream(s, p, &request) || !search.found)
            continue;
        out->file = search.found;
        out->to = search.to;
        out->partition = p->partition->number;
        out->menu = dialect->menu_file && strstr(search.found, dialect->menu_file) != NULL;
    }
    return out->file != NULL;
}

/* ---- what it read ---- */

static const struct draft_taken *taken_of(const struct survey *s, const struct mos_vec *taken,
                                          unsigned partition) {
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *p = mos_vec_at(&s->spans, i);
        if (p->partition && p->partition->number == partition)
            return mos_vec_at(taken, i);
    }
    return NULL;
}

/* The piece of a file, new or known; NULL: it is none of an archive that was taken. */
static const struct draft_part *part_of(struct draft *x, const struct survey *s,
                                        const struct mos_vec *taken, struct draft_boot *out,
                                        const struct mos_ram_use *use) {
    struct mos_arena *arena = x->m->arena;
    const struct draft_taken *t =
        use->file && use->file->path ? taken_of(s, taken, use->file->partition) : NULL;
    size_t same = 1;
    if (!t || !t->file)
        return NULL;
    const char *path = use->file->path + strspn(use->file->path, "/");
    for (size_t i = 0; i < out->parts.count; i++) {
        const struct draft_part *p = mos_vec_pointer(&out->parts, i);
        if (strcmp(p->path, path) == 0 && p->partition == use->file->partition)
            return strcmp(p->role, use->role) == 0 ? p : NULL; /* one file for both: a parcel */
        same += strcmp(p->role, use->role) == 0;
    }
    struct draft_part *p = mos_alloc(arena, sizeof *p);
    *p = (struct draft_part){.role = use->role,
                             .name = same > 1 ? mos_printf(arena, "%s-%zu", use->role, same)
                                              : use->role,
                             .path = mos_strdup(arena, path),
                             .in = mos_printf(arena, "image-%s", t->name),
                             .partition = use->file->partition};
    mos_vec_push_pointer(&out->parts, p);
    return p;
}

/* A name for an entry, from what the loader calls it. */
static const char *entry_name(struct draft *x, const struct draft_boot *out, const char *from) {
    struct mos_buf b = {.arena = x->m->arena};
    for (const char *p = from ? from : ""; *p && b.length < 40; p++)
        if (isalnum((unsigned char)*p))
            mos_buf_char(&b, (char)tolower((unsigned char)*p));
        else if (b.length && b.data[b.length - 1] != '-')
            mos_buf_char(&b, '-');
    const char *base = mos_buf_string(&b);
    size_t n = strlen(base);
    base = mos_strndup(x->m->arena, base, n && base[n - 1] == '-' ? n - 1 : n);
    const char *name = isalpha((unsigned char)*base) && !strstr(from, " of ") ? base
                       : out->entries.count                                   ? "other"
                                                                              : "main";
    const char *own = name;
    for (size_t i = 0, k = 2; i < out->entries.count; i++)
        if (strcmp(((const struct draft_entry *)mos_vec_at(&out->entries, i))->name, own) == 0) {
            own = mos_printf(x->m->arena, "%s-%zu", name, k++);
            i = (size_t)-1; /* from the start again */
        }
    return own;
}

/* What one rehearsal came to as an entry; false: it cannot be said as one. */
static bool take_entry(struct draft *x, const struct survey *s, const struct mos_vec *taken,
                       const struct mos_rehearsal *r, struct draft_boot *out) {
    struct draft_entry e = {.name = entry_name(x, out, r->entry), .arguments = r->arguments};
    for (size_t i = 0; i < r->ram.count; i++) {
        const struct mos_ram_use *use = mos_vec_at(&r->ram, i);
        const struct draft_part *part = part_of(x, s, taken, out, use);
        if (strcmp(use->role, "kernel") == 0)
            e.kernel = part;
        else if (strcmp(use->role, "tree") == 0)
            e.tree = part;
        else
            e.ramdisk = part;
        if (!part && (strcmp(use->role, "tree") != 0 || use->file))
            return false; /* a tree may be the loader's own */
    }
    *(struct draft_entry *)mos_vec_push(&out->entries) = e;
    return e.kernel != NULL;
}

/* The last console= is the one that log-ins and the first program use. */
static const char *console_of(struct draft *x, const char *arguments) {
    const char *found = NULL;
    for (const char *p = arguments; *(p += strspn(p, " ")); p += strcspn(p, " "))
        if (strncmp(p, "console=", 8) == 0)
            found = mos_strndup(x->m->arena, p + 8, strcspn(p + 8, " "));
    return found;
}

static bool rehearse(struct draft *x, struct run_rig *rig, struct mos_rehearsal *r) {
    return mos_rehearse(&x->m->ctx, &rig->rig, r);
}

/* Entries of the image's own menu that the draft has not: they did not start, or are too many. */
static void tell_left_out(struct draft *x, const char *const *taken,
                          const struct mos_rehearsal *r) {
    for (size_t i = 0; i <= r->passed.count; i++) { /* the last one is what this start ended with */
        const struct mos_passed_entry *p = i < r->passed.count ? mos_vec_at(&r->passed, i) : NULL;
        const char *entry = p ? p->entry : r->entry, *why = p              ? p->reason
                                                            : r->arguments ? "there are too many"
                                                                           : r->reason;
        bool known = !entry;
        for (size_t k = 0; taken[k] && !known; k++)
            known = strcmp(taken[k], entry) == 0;
        if (!known)
            draft_unknown(x, "entry", NULL,
                          mos_printf(x->m->arena, "entry %s of the image is not in the draft: %s",
                                     entry, why));
    }
}

/* One entry after another: the loader goes on to the next where the boot command of one fails. */
static bool take_entries(struct draft *x, const struct survey *s, const struct mos_vec *taken,
                         struct run_rig *rig, struct mos_rehearsal *r, struct draft_boot *out) {
    const char **refused = mos_alloc_array(x->m->arena, MOST_ENTRIES + 1, sizeof *refused);
    rig->rig.refused = refused;
    for (size_t n = 0; n < MOST_ENTRIES && r->arguments; n++) {
        bool known = false;
        for (size_t i = 0; i < n; i++)
            known |= r->entry && strcmp(refused[i], r->entry) == 0;
        if (known)
            break;
        if (!take_entry(x, s, taken, r, out)) {
            out->why_not = "kernel, tree and ramdisk come out of one file, or out of RAM";
            out->entries.count = out->parts.count = 0;
            return true;
        }
        if (!r->entry)
            break;
        refused[n] = r->entry;
        if (!rehearse(x, rig, r))
            return false;
    }
    tell_left_out(x, refused, r);
    return true;
}

bool draft_read_boot(struct draft *x, struct survey *s, const struct mos_vec *taken,
                     struct draft_boot *out) {
    mosaicum *m = x->m;
    const struct mosaicum_rehearsal request = {.what = x->d->from, .cpu = x->d->cpu};
    struct run_rig rig;
    struct mos_rehearsal r;
    struct mos_map variables = mos_map_make(m->arena);
    *out = (struct draft_boot){.parts = mos_vec_make(m->arena, sizeof(void *)),
                               .entries = mos_vec_make(m->arena, sizeof(struct draft_entry)),
                               .to = ""};
    bool ok = rig_open(m, &request, &rig);
    const struct mos_dialect *dialect = rig.rig.dialect;
    bool found = ok && find_start(x, s, dialect, out);
    if (found &&
        dialect->starts_file) { /* what is stored may start it another way; this is there */
        dialect->starts_file(m->arena, rig.rig.media[0].loader, out->partition, out->file,
                             &variables);
        rig.rig.compiled = &variables;
        rig.rig.environment_count = 0;
        /* all that 32 bits reach: whatever addresses a script has, it is followed to its end */
        rig.rig.ram = (struct mos_ram_span){0, 1ull << 32};
        ok = rehearse(x, &rig, &r);
        if (ok && r.arguments) {
            x->cpu = r.kernel.cpu;
            x->console = console_of(x, r.arguments);
            ok = take_entries(x, s, taken, &rig, &r, out);
            if (ok && out->entries.count && !out->menu && !(x->d->ram_start && x->d->ram_size)) {
                const struct draft_entry *e = mos_vec_at(&out->entries, 0);
                out->why_not = mos_printf(m->arena,
                                          "%s of partition %u starts %s with \"%s\"; draft it with "
                                          "--ram-start and --ram, and that becomes an entry",
                                          out->file, out->partition, e->kernel->path, e->arguments);
                out->entries.count = out->parts.count = 0;
            }
        } else if (ok) {
            out->why_not = mos_printf(m->arena, "%s of partition %u starts no kernel (%s)",
                                      out->file, out->partition, r.reason);
        }
    }
    if (ok && !out->entries.count && !out->why_not)
        out->why_not = "it has no menu and no script that a loader looks for";
    rig_close(&rig);
    return ok;
}

/* ---- as a definition ---- */

/* The region whose partition root= names; NULL: none, or by other means. */
static const char *region_of_root(struct draft *x, const struct survey *s,
                                  const struct mos_vec *taken, const char *value) {
    if (strncmp(value, "PARTUUID=", 9) != 0 || !s->driver)
        return NULL;
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *p = mos_vec_at(&s->spans, i);
        char id[64] = "";
        if (!p->partition)
            continue;
        if (strcmp(s->driver->name, "gpt") == 0) {
            mos_uuid_text(p->partition->id, id);
        } else {
            mos_uuid_text(s->table.id, id);
            const char *text = mos_printf(x->m->arena, "%.8s-%02x", id, p->partition->number);
            memcpy(id, text, strlen(text) + 1);
        }
        if (strcmp(id, value + 9) == 0)
            return ((const struct draft_taken *)mos_vec_at(taken, i))->name;
    }
    return NULL;
}

struct word {
    const char *name, *value; /* value NULL: a flag */
};

/* The words of a command line; what stands in quotes is one. */
static struct mos_vec words_of(struct draft *x, const char *text) {
    struct mos_vec out = mos_vec_make(x->m->arena, sizeof(struct word));
    while (*(text += strspn(text, " "))) {
        size_t n = 0;
        for (bool in = false; text[n] && (in || text[n] != ' '); n++)
            in ^= text[n] == '"';
        const char *word = mos_strndup(x->m->arena, text, n), *equals = strchr(word, '=');
        *(struct word *)mos_vec_push(&out) =
            equals
                ? (struct word){mos_strndup(x->m->arena, word, (size_t)(equals - word)), equals + 1}
                : (struct word){word, NULL};
        text += n;
    }
    return out;
}

static const char *value_of(struct draft *x, const struct survey *s, const struct mos_vec *taken,
                            const struct word *w) {
    const char *region =
        strcmp(w->name, "root") == 0 ? region_of_root(x, s, taken, w->value) : NULL;
    if (region)
        return mos_printf(x->m->arena, "<%s>", region);
    bool console =
        strcmp(w->name, "console") == 0 && x->console && !x->d->console &&
        strcmp(w->value, x->console) == 0 && strchr(w->value, ',') &&
        strspn(strchr(w->value, ',') + 1, "0123456789") == strlen(strchr(w->value, ',') + 1);
    return console ? "<console>" : draft_quoted(x, w->value);
}

static void put_arguments(struct draft *x, const struct survey *s, const struct mos_vec *taken,
                          const char *arguments) {
    struct mos_vec words = words_of(x, arguments);
    struct mos_buf flags = {.arena = x->m->arena};
    bool begun = false;
    for (size_t i = 0; i < words.count; i++) {
        const struct word *w = mos_vec_at(&words, i);
        struct mos_buf values = {.arena = x->m->arena};
        size_t count = 0;
        bool before = false;
        if (!w->value) {
            mos_buf_printf(&flags, "%s%s", flags.length ? ", " : "", draft_quoted(x, w->name));
            continue;
        }
        for (size_t k = 0; k < words.count; k++) {
            const struct word *o = mos_vec_at(&words, k);
            if (!o->value || strcmp(o->name, w->name) != 0)
                continue;
            before |= k < i;
            mos_buf_printf(&values, "%s%s", count++ ? ", " : "", value_of(x, s, taken, o));
        }
        if (before)
            continue;
        if (!begun)
            draft_line(x, "      arguments:");
        begun = true;
        draft_line(x, count > 1 ? "        %s: [%s]" : "        %s: %s", draft_quoted(x, w->name),
                   mos_buf_string(&values));
    }
    if (flags.length)
        draft_line(x, "      flags: [%s]", mos_buf_string(&flags));
}

void draft_put_boot(struct draft *x, const struct survey *s, const struct mos_vec *taken,
                    const struct draft_boot *boot) {
    if (!boot->entries.count)
        return;
    draft_line(x, "\nboot:                                 # as %s of partition %u starts it",
               draft_harmless(x, boot->file), boot->partition);
    draft_line(x, "  via: %s\n  entries:", boot->menu ? "menu" : "script");
    for (size_t i = 0; i < boot->entries.count; i++) {
        const struct draft_entry *e = mos_vec_at(&boot->entries, i);
        draft_line(x, "    %s:\n      kernel: %s", e->name, e->kernel->name);
        if (e->tree)
            draft_line(x, "      tree: %s", x->d->tree ? "main" : e->tree->name);
        if (e->ramdisk)
            draft_line(x, "      ramdisk: %s", e->ramdisk->name);
        put_arguments(x, s, taken, e->arguments);
    }
    if (boot->entries.count >
        1) /* a choice of entries is not a fallback, and an image may mean it so */
        draft_line(x,
                   "\nwaivers:\n  choice: {rule: boot.fallback-unreachable, place: "
                   "boot.entries.%s, reason: \"the image has it so\"}",
                   ((const struct draft_entry *)mos_vec_at(&boot->entries, 0))->name);
}

const char *draft_fills(struct draft *x, const struct draft_boot *boot, const char *name,
                        unsigned partition) {
    struct mos_buf except = {.arena = x->m->arena};
    bool boots = boot->entries.count && boot->partition == partition;
    if (boots)
        mos_buf_text(&except, draft_quoted(x, boot->file));
    for (size_t i = 0; i < boot->parts.count && boot->entries.count; i++) {
        const struct draft_part *p = mos_vec_pointer(&boot->parts, i);
        if (p->partition == boot->partition && p->partition == partition)
            mos_buf_printf(&except, "%s%s", except.length ? ", " : "", draft_quoted(x, p->path));
    }
    const char *all = mos_printf(x->m->arena, "all: {archive: image-%s%s%s%s}", name,
                                 except.length ? ", except: [" : "", mos_buf_string(&except),
                                 except.length ? "]" : "");
    return mos_printf(x->m->arena, ", fills: {%s%s}", all,
                      !boots      ? ""
                      : *boot->to ? ", boot: {made: boot, to: boot}"
                                  : ", boot: {made: boot}");
}
