#include "computer/scene.h"

#include "platform/platform.h"

#include <stdlib.h>
#include <string.h>

void scene_build(struct scene *s, uint64_t seed, const char *stamp) {
    card_fill(&s->core, s->image, seed);
    card_put(&s->core, s->image, path_in(s->folder, "out"), stamp);
}

void scene_start(struct scene *s) {
    memset(s, 0, sizeof *s);
    core_start(&s->core);
    s->folder = keep(test_folder("media"));
    s->path = keep(path_in(s->folder, "out/card.img"));
    s->image = malloc(CARD_SIZE);
    s->host = *mos_platform_host();
    write_text(path_in(s->folder, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    scene_build(s, 1, "one");
}

void scene_end(struct scene *s) {
    free(s->image);
    core_end(&s->core);
}

struct made_up *scene_computer(const char *text) {
    char why[200] = "";
    struct made_up *m = made_up_new(text, NULL, why, sizeof why);
    if (!m)
        fprintf(stderr, "\nmade-up computer: %s\n", why);
    CU_ASSERT_PTR_NOT_NULL_FATAL(m);
    return m;
}

static int open_no_device(const struct mos_host *h, const char *path, enum mos_open_mode mode,
                          int *file) {
    return strncmp(path, "/dev/", 5) == 0 ? MOS_NO_FILE
                                          : mos_platform_host()->open(h, path, mode, file);
}

static int info_of_device(const struct mos_host *h, const char *path, bool follow,
                          struct mos_file_info *out) {
    if (strncmp(path, "/dev/", 5) != 0)
        return mos_platform_host()->info(h, path, follow, out);
    *out = (struct mos_file_info){.kind = MOS_FILE_OTHER};
    return 0;
}

void scene_has_device_files(struct scene *s) {
    s->host.open = open_no_device;
    s->host.info = info_of_device;
}

/* ---- one write ---- */

bool scene_consents(void *self, const char *device, const char *token) {
    (void)self;
    (void)device;
    (void)token;
    return true;
}

static void note(char *to, size_t room, const char *text) {
    if (text && !strstr(to, text)) {
        size_t n = strlen(to);
        snprintf(to + n, room - n, "%s%s", n ? " " : "", text);
    }
}

struct cells {
    char *to;
    size_t room;
    size_t column;
};

static bool take_cell(void *self, const struct mosaicum_cell *cells) {
    struct cells *c = self;
    note(c->to, c->room, cells[c->column].text);
    return true;
}

struct result scene_write(struct scene *s, struct made_up *m, struct mosaicum_write r,
                          const char *path) {
    struct result out = {0};
    const char *devices[] = {path};
    s->host.computer = made_up_computer(m);
    r.what = !r.what ? s->path : *r.what ? r.what : NULL;
    if (!r.devices) {
        r.devices = devices;
        r.device_count = 1;
    }
    if (!r.yes && !r.ask)
        r.ask = scene_consents;
    struct mosaicum_options o = {.host = &s->host, .workspace = s->folder};
    mosaicum *run = mosaicum_new(&o);
    out.status = mosaicum_write(run, &r);
    for (size_t i = 0; i < mosaicum_finding_count(run); i++) {
        note(out.rules, sizeof out.rules, mosaicum_finding_at(run, i)->rule);
        note(out.why, sizeof out.why, mosaicum_finding_at(run, i)->why);
    }
    snprintf(out.error, sizeof out.error, "%s", mosaicum_error(run) ? mosaicum_error(run) : "");
    for (size_t i = 0; i < mosaicum_table_count(run); i++) {
        const struct mosaicum_table *t = mosaicum_table_at(run, i);
        struct cells cells = {out.results, sizeof out.results, 2};
        if (strcmp(t->key, "written") == 0)
            mosaicum_table_rows(run, t, take_cell, &cells);
    }
    mosaicum_free(run);
    return out;
}

/* The token that `devices` shows for a path; "": none. */
const char *scene_token(struct scene *s, struct made_up *m, const char *path, char out[5]) {
    s->host.computer = made_up_computer(m);
    struct mosaicum_options o = {.host = &s->host};
    mosaicum *run = mosaicum_new(&o);
    CU_ASSERT_EQUAL(mosaicum_devices(run), MOSAICUM_DONE);
    const struct mosaicum_table *t = mosaicum_table_at(run, 0);
    *out = 0;
    for (size_t i = 0; i < t->row_count; i++)
        if (strcmp(t->cells[i * t->column_count].text, path) == 0)
            snprintf(out, 5, "%s", t->cells[i * t->column_count + 2].text);
    mosaicum_free(run);
    return out;
}

/* ---- what a device holds ---- */

bool scene_has_table(struct scene *s, const struct made_up_device *d) {
    struct mos_vec problems = mos_vec_make(s->core.ctx.arena, sizeof(char *));
    struct mos_table_data t;
    struct mos_io io = mos_io_memory(s->core.ctx.arena, d->bytes, d->size);
    return mos_table_read(&io, s->core.ctx.arena, &t, &problems) != NULL;
}

/* All that the ledger defines is there, but for regions that stay. */
bool scene_carries(const struct scene *s, const struct made_up_device *d, bool all) {
    for (size_t i = 0; i < CARD_PARTS; i++) {
        const struct card_part *p = &card_parts[i];
        uint64_t defined = p->data + (p->data + CARD_ZERO <= p->length ? CARD_ZERO : 0);
        if ((all || strcmp(p->owner, "build") == 0) &&
            memcmp(d->bytes + p->at, s->image + p->at, (size_t)defined) != 0)
            return false;
    }
    return true;
}

static const char card[] = "disk sdb 8:16 %uM bus=usb port=1-2 model=Reader serial=R1\n%s";

struct made_up *scene_card(unsigned mib, const char *more) {
    char text[1024];
    snprintf(text, sizeof text, card, mib, more);
    return scene_computer(text);
}

/* Its bytes, as something else left them: a table of its own, and noise. */
struct made_up_device *scene_noise(struct scene *s, struct made_up *m) {
    struct made_up_device *d = made_up_device(m, "sdb");
    static uint8_t noise[MIB];
    uint64_t seed = 77;
    const char *why = NULL;
    for (size_t i = 0; i < MIB && !noise[0]; i++)
        noise[MIB - 1 - i] = (uint8_t)(1 + random_below(&seed, 255));
    if (!d->bytes)
        d->bytes = malloc((size_t)d->size);
    for (uint64_t i = 0; i < d->size; i += MIB)
        memcpy(d->bytes + i, noise, MIB);
    struct mos_io io = mos_io_memory(s->core.ctx.arena, d->bytes, d->size);
    struct mos_table_data t = card_table(&s->core, d->size);
    ((struct mos_partition *)mos_vec_at(&t.partitions, 0))->first_lba = 2560;
    CU_ASSERT_EQUAL(mos_table_write(&mos_table_gpt, &io, &t, s->core.ctx.arena, &why), 0);
    return d;
}
