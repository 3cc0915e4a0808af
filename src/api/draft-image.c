/* new --from: regions, volumes and raw places of an image, with everything that they hold. */
#include "api/draft_internal.h"

#include "base/bytes.h"
#include "base/text.h"

#include <ctype.h>
#include <string.h>

static bool name_taken(const struct mos_vec *names, const char *name) {
    for (size_t i = 0; i < names->count; i++)
        if (strcmp(mos_vec_pointer(names, i), name) == 0)
            return true;
    return false;
}

/* A name for a region, from what the image calls it. */
static const char *region_name(struct draft *x, const struct survey_span *s,
                               struct mos_vec *names) {
    const char *from = s->region                                              ? s->region
                       : s->partition && *s->partition->name                  ? s->partition->name
                       : s->has_volume && s->volume.label && *s->volume.label ? s->volume.label
                       : s->environment_size                                  ? "env"
                       : s->partition                                         ? "part"
                                                                              : "raw";
    struct mos_buf b = {.arena = x->m->arena};
    for (const char *p = from; *p && b.length < 40; p++)
        mos_buf_char(&b, isalnum((unsigned char)*p) ? (char)tolower((unsigned char)*p) : '-');
    const char *base = isalnum((unsigned char)mos_buf_string(&b)[0]) ? mos_buf_string(&b) : "part";
    const char *name = base;
    for (unsigned n = 2; name_taken(names, name); n++)
        name = mos_printf(x->m->arena, "%s-%u", base, n);
    mos_vec_push_pointer(names, name);
    return name;
}

static void put_partition(struct draft *x, const struct survey *s, const struct survey_span *p,
                          const struct draft_taken *taken, const struct draft_boot *boot) {
    const char *name = taken->name;
    struct mos_arena *arena = x->m->arena;
    const struct mos_fs_driver *fs = p->has_volume ? mos_fs_find(p->volume.kind) : NULL;
    uint8_t usual[16];
    char type[37] = "";
    bool gpt = strcmp(s->driver->name, "gpt") == 0;
    if (!s->driver->type_for(fs ? fs->partition : "raw", usual) ||
        memcmp(usual, p->partition->type, 16) != 0) {
        if (gpt)
            mos_uuid_text(p->partition->type, type);
        else
            memcpy(type, mos_printf(arena, "0x%02x", p->partition->type[15]), 5);
    }
    draft_line(x, "      %s:", name);
    draft_line(x, "        number: %u", p->partition->number);
    draft_line(x, "        at: %s", mos_size_exact(x->m->arena, p->start));
    draft_line(x, "        size: %s", mos_size_exact(x->m->arena, p->length));
    if (*type)
        draft_line(x, "        type: \"%s\"", type);
    if (*p->partition->name && strcmp(p->partition->name, name) != 0)
        draft_line(x, "        partition-name: %s", draft_quoted(x, p->partition->name));
    if (p->partition->bootable)
        draft_line(x, "        bootable: yes");
    if (gpt) {
        char id[37];
        mos_uuid_text(p->partition->id, id);
        draft_line(x,
                   "        partition-id: %s   # as in the image, so that PARTUUID= goes on to fit",
                   id);
    }
    if (fs) {
        char *label = mos_strdup(arena, p->volume.label ? p->volume.label : "");
        uint8_t uuid[16];
        bool fat = p->volume.id && strlen(p->volume.id) == 9 && p->volume.id[4] == '-';
        const char *id = p->volume.id && (fat || mos_uuid_parse(p->volume.id, uuid))
                             ? mos_printf(arena, ", volume-id: %s", p->volume.id)
                             : "";
        draft_line(x, "        volume: {kind: %s%s%s%s%s}", fs->name, *label ? ", label: " : "",
                   *label ? draft_quoted(x, label) : "", id,
                   taken->file ? draft_fills(x, boot, name, p->partition->number) : "");
        if (p->volume.names.count) {
            struct mos_buf names = {.arena = arena};
            for (size_t i = 0; i < p->volume.names.count && i < 8; i++)
                mos_buf_printf(&names, "%s%s", i ? ", " : "",
                               (const char *)mos_vec_pointer(&p->volume.names, i));
            draft_line(x, "        # it holds %s%s", draft_harmless(x, mos_buf_string(&names)),
                       p->volume.names.count > 8 ? " …" : "");
        }
        if (!taken->file)
            draft_unknown(
                x, mos_printf(arena, "files-of-%s", name), NULL,
                mos_printf(arena, "the files of %s: add fills (archive, folder or piece)", name));
    } else if (taken->file) {
        draft_line(x, "        piece: image-%s   # %s", name,
                   draft_harmless(x, p->has_volume ? p->volume.kind
                                     : p->what     ? p->what
                                                   : "not known what it is"));
    } else {
        draft_unknown(x, mos_printf(arena, "content-of-%s", name), NULL,
                      mos_printf(arena, "what partition %u (%s) holds: %s", p->partition->number,
                                 name,
                                 p->has_volume ? p->volume.kind
                                 : p->what     ? p->what
                                               : "no file system that can be read"));
    }
}

static void put_raw(struct draft *x, const struct survey_span *p, const struct draft_taken *taken) {
    const char *name = taken->name;
    const char *what = p->region && (!p->what || *p->what == '(') ? "content"
                       : p->what                                  ? p->what
                                                                  : "data";
    if (p->environment_size) {
        draft_line(x, "      %s: {at: %s, size: %s, environment: main, owner: device}", name,
                   mos_size_exact(x->m->arena, p->start),
                   mos_size_exact(x->m->arena, p->region ? p->length : p->environment_size));
        return;
    }
    if (p->region && p->what && strcmp(p->what, "(empty)") == 0) {
        draft_line(x, "      %s: {at: %s, size: %s}", name, mos_size_exact(x->m->arena, p->start),
                   mos_size_exact(x->m->arena, p->length));
        return;
    }
    draft_line(x, "      %s: {at: %s, size: %s%s}   # %s", name,
               mos_size_exact(x->m->arena, p->start),
               mos_size_exact(x->m->arena, p->region ? p->length : mos_round_up(p->length, 4096)),
               taken->file ? mos_printf(x->m->arena, ", piece: image-%s", name) : "",
               draft_harmless(x, what));
    draft_unknown(x, mos_printf(x->m->arena, "stage-of-%s", name), NULL,
                  mos_printf(x->m->arena, "which stage the %s at %s is (stages:)", what,
                             mos_size_exact(x->m->arena, p->start)));
}

static void put_environment(struct draft *x, const struct survey_span *p) {
    draft_line(x, "\nloader:");
    draft_line(x, "  dialect: %s", p->dialect->name);
    draft_line(x, "  environments:");
    draft_line(x, "    main:");
    draft_line(x,
               "      base: none                       # all that the image stores is written out");
    draft_line(x, "      size: %s", mos_size_exact(x->m->arena, p->environment_size));
    if (p->flag_byte)
        draft_line(x, "      flag-byte: yes");
    draft_line(x, "      values:");
    for (size_t i = 0; i < p->variables.count; i++) {
        const struct mos_loader_variable *v = p->variables.items[i].value;
        draft_line(x, "        %s: %s", draft_quoted(x, v->name), draft_quoted(x, v->value));
    }
}

/* The largest span that nothing uses, so that the draft does not begin with a note. */
static uint64_t largest_gap(const struct survey *s) {
    uint64_t at = 0, most = 0;
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *p = mos_vec_at(&s->spans, i);
        most = p->start > at ? mos_max(most, p->start - at) : most;
        at = mos_max(at, p->start + p->length);
    }
    return s->io.size > at ? mos_max(most, s->io.size - at) : most;
}

/* Takes everything out of the image that a build of the draft would need. */
static bool take_all(struct draft *x, struct survey *s, struct mos_vec *out) {
    struct mos_vec names = mos_vec_make(x->m->arena, sizeof(char *));
    struct mos_arena *arena = x->m->arena;
    *out = mos_vec_make(arena, sizeof(struct draft_taken));
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *p = mos_vec_at(&s->spans, i);
        const char *type = p->partition ? s->driver->type_name(p->partition->type) : NULL;
        struct draft_taken *t = mos_vec_push(out);
        t->skipped = type && strcmp(type, "extended") == 0;
        t->name = t->skipped ? NULL : region_name(x, p, &names);
        bool made = p->environment_size || (p->has_volume && strcmp(p->volume.kind, "swap") == 0);
        if (t->skipped || made)
            continue;
        const char *shown =
            mos_printf(arena, "pieces/%s-%s.%s", x->d->name, t->name,
                       survey_has_files(p) && mos_fs_find(p->volume.kind) ? "tar.zst" : "bin");
        const char *path = mos_path_join(arena, x->folder, shown);
        bool kept;
        if (mos_exists(&x->m->ctx, path))
            return mos_fail(&x->m->error, MOS_ERROR_SAFETY, 0, "%s is there already", path);
        if (!survey_keep(s, p, path, &kept))
            return false;
        if (kept) {
            t->file = shown;
            mos_vec_push_pointer(&x->written, shown);
        }
    }
    return true;
}

/* What is stated, or what an image that a build of ours made for a flash is for. */
static const char *draft_kind(const struct draft *x, const struct survey *s) {
    return x->d->medium ? x->d->medium : s->by_ledger ? "nor" : "sd";
}

static void put_layout(struct draft *x, const struct survey *s, const struct mos_vec *taken,
                       const struct draft_boot *boot) {
    uint64_t gap = largest_gap(s);
    draft_line(x, "\nlayout:");
    draft_line(x, "  %s:", draft_medium(draft_kind(x, s)));
    if (gap > 64 << 20)
        draft_line(x,
                   "    gap-note: %s                  # the image has an unused span of that size",
                   mos_size_exact(x->m->arena, mos_round_up(gap, 1 << 20)));
    if (s->driver) {
        char id[37];
        mos_uuid_text(s->table.id, id);
        if (strcmp(s->driver->name, "mbr") == 0)
            id[8] = 0;
        draft_line(x, "    table: {kind: %s%s%s}", s->driver->name,
                   s->table.entries != s->driver->default_entries
                       ? mos_printf(x->m->arena, ", partition-entries: %u", s->table.entries)
                       : "",
                   mos_printf(x->m->arena, ", disk-id: %s", id));
    }
    draft_line(x, "    regions:");
    for (size_t i = 0; i < s->spans.count; i++) {
        const struct survey_span *p = mos_vec_at(&s->spans, i);
        const struct draft_taken *t = mos_vec_at(taken, i);
        if (t->skipped)
            continue;
        if (p->partition)
            put_partition(x, s, p, t, boot);
        else if (!p->has_volume || !mos_fs_find(p->volume.kind))
            put_raw(x, p, t);
        else
            draft_line(x, "      %s: {at: %s, size: %s, volume: {kind: %s%s}}", t->name,
                       mos_size_exact(x->m->arena, p->start),
                       mos_size_exact(x->m->arena, p->length), p->volume.kind,
                       t->file
                           ? mos_printf(x->m->arena, ", fills: {all: {archive: image-%s}}", t->name)
                           : "");
    }
    if (!s->spans.count)
        draft_line(x, "      # nothing was found");
}

void draft_from_image(struct draft *x) {
    struct survey s;
    const struct survey_span *environment = NULL;
    struct mos_vec taken;
    struct draft_boot boot;
    if (!survey_open(x->m, x->d->from, &s))
        return;
    if (!take_all(x, &s, &taken) || !draft_read_boot(x, &s, &taken, &boot)) {
        survey_close(&s);
        return;
    }
    for (size_t i = 0; i < s.spans.count; i++) {
        const struct survey_span *p = mos_vec_at(&s.spans, i);
        if (p->environment_size && !environment)
            environment = p;
    }
    const struct mos_dialect *dialect = environment ? environment->dialect : mos_dialect_at(0);
    const char *kind = draft_kind(x, &s);
    const char *loader = mos_dialect_medium(dialect, x->m->arena, kind);
    const char *sector = s.driver && s.table.sector != 512
                             ? mos_printf(x->m->arena, ", sector: %u B", s.table.sector)
                             : "";
    draft_put_hardware(
        x, mos_printf(
               x->m->arena, "    %s: {kind: %s, size: %s%s}   # also loader: %s, kernel: %s\n",
               draft_medium(kind), draft_quoted(x, kind), mos_size_exact(x->m->arena, s.io.size),
               sector, loader, mos_dialect_kernel_name(dialect, x->m->arena, loader)));
    draft_put_pieces(x, draft_adopt(x, x->d->kernel, "pieces"),
                     draft_adopt(x, x->d->root, "pieces"), draft_adopt(x, x->d->tree, "tree"),
                     &taken, &boot);
    if (environment)
        put_environment(x, environment);
    else
        draft_put_loader(x);
    draft_put_boot(x, &s, &taken, &boot);
    put_layout(x, &s, &taken, &boot);
    draft_unknown(x, "medium", "hardware.media.card.kernel",
                  "what loader and kernel call the medium (hardware: media)");
    if (boot.why_not)
        draft_unknown(x, "boot", "boot.entries",
                      mos_printf(x->m->arena, "how it boots (boot: entries): %s", boot.why_not));
    for (size_t i = 0; i < s.problems.count; i++)
        draft_unknown(x, "damage", NULL, mos_vec_pointer(&s.problems, i));
    survey_close(&s);
}
