#include "computer/card.h"

#include "base/bytes.h"
#include "boot/variables.h"
#include "content/content.h"
#include "fs/fs.h"
#include "ledger/ledger.h"
#include "loaders/loaders.h"

#include <stdio.h>
#include <string.h>

const struct card_part card_parts[CARD_PARTS] = {
    {"first", "build", 0, 32 * KIB, 64 * KIB, 60 * KIB, false, true},
    {"loader", "build", 0, 128 * KIB, 256 * KIB, 200 * KIB, false, false},
    {"env", "device", 0, 512 * KIB, 64 * KIB, 64 * KIB, false, false},
    {"serial", "factory", 0, 640 * KIB, 64 * KIB, 4 * KIB, false, false},
    {"boot", "build", 1, 1 * MIB, 1 * MIB, 600 * KIB + 12345, false, false},
    {"root", "build", 2, 2 * MIB, 1536 * KIB, 1200 * KIB, true, false},
};

struct mos_table_data card_table(struct core *c, uint64_t size) {
    struct mos_table_data t = {.sector = 512,
                               .medium_size = size,
                               .entries = 128,
                               .first_usable = 34,
                               .last_usable = size / 512 - 34,
                               .partitions =
                                   mos_vec_make(c->ctx.arena, sizeof(struct mos_partition))};
    mos_uuid_from_name("a card", t.id);
    for (size_t i = 0; i < CARD_PARTS; i++)
        if (card_parts[i].number) {
            struct mos_partition *p = mos_vec_push(&t.partitions);
            p->number = card_parts[i].number;
            p->first_lba = card_parts[i].at / 512;
            p->last_lba = (card_parts[i].at + card_parts[i].length) / 512 - 1;
            p->name = card_parts[i].name;
            mos_table_gpt.type_for("linux", p->type);
            mos_uuid_from_name(card_parts[i].name, p->id);
        }
    return t;
}

void card_fill(struct core *c, uint8_t *image, uint64_t seed) {
    const char *why = NULL;
    memset(image, 0, CARD_SIZE);
    for (size_t i = 0; i < CARD_PARTS; i++)
        for (uint64_t k = 0; k < card_parts[i].data; k++)
            image[card_parts[i].at + k] = (uint8_t)(1 + random_below(&seed, 255));
    struct mos_io io = mos_io_memory(c->ctx.arena, image, CARD_SIZE);
    struct mos_table_data t = card_table(c, CARD_SIZE);
    CU_ASSERT_EQUAL(mos_table_write(&mos_table_gpt, &io, &t, c->ctx.arena, &why), 0);
}

void card_put_variables(struct core *c, uint8_t *image) {
    const struct mos_dialect *d = mos_dialect_at(0);
    struct mos_map variables = mos_map_make(c->ctx.arena);
    struct mos_buf block = {.arena = c->ctx.arena};
    mos_variables_set(c->ctx.arena, &variables, "boot_note", "tide", (struct mos_place){0});
    mos_variables_set(c->ctx.arena, &variables, "hostname", "nobody", (struct mos_place){0});
    d->stored->write(&block, &variables, CARD_BLOCK, false);
    memcpy(image + card_parts[CARD_ENV].at, block.data, block.length);
}

static void add_file(const struct mos_sink *s, const char *path, int64_t mtime) {
    struct mos_entry e = {.path = path, .type = MOS_ENTRY_FILE, .mode = 0644, .mtime = mtime};
    for (const char *slash = strchr(path, '/'); slash; slash = strchr(slash + 1, '/')) {
        char above[64];
        struct mos_entry folder = {
            .path = above, .type = MOS_ENTRY_FOLDER, .mode = 0755, .mtime = mtime};
        snprintf(above, sizeof above, "%.*s", (int)(slash - path), path);
        CU_ASSERT_TRUE(s->entry(s->self, &folder) && s->end(s->self, 0));
    }
    e.size = strlen(path);
    CU_ASSERT_TRUE(mos_bytes_stream(&e, path, e.size, s));
}

void card_put_volume(struct core *c, uint8_t *bytes, const char *edit) {
    enum { BUILT = 1767225600, EDITED = 1770000000 };
    const struct card_part *p = &card_parts[CARD_BOOT];
    const struct mos_fs_driver *d = mos_fs_find("fat12");
    struct mos_volume_wish w = {
        .size = p->length, .sector = 512, .label = "BOOT", .date = BUILT, .region_offset = p->at};
    struct mos_volume_result r;
    memset(bytes + p->at, 0, (size_t)p->length);
    struct mos_io io = mos_io_memory(c->ctx.arena, bytes + p->at, p->length);
    struct mos_volume_base *v = d->begin(&c->ctx, &io, &w);
    struct mos_sink s = d->sink(v);
    add_file(&s, "tide.txt", BUILT);
    if (edit)
        add_file(&s, edit, EDITED);
    CU_ASSERT_TRUE_FATAL(d->finish(v, &r));
}

static bool has_variables(struct core *c, const uint8_t *image) {
    struct mos_map variables;
    bool flag;
    return mos_loaders_read_stored(c->ctx.arena, image + card_parts[CARD_ENV].at, CARD_BLOCK,
                                   &variables, &flag) != NULL;
}

void card_put(struct core *c, const uint8_t *image, const char *folder, const char *stamp) {
    uint8_t hash[MOS_SHA256_SIZE], chunk[MOS_SHA256_SIZE];
    struct mos_ledger *l = mos_ledger_new("saltmarsh-survey", "curlew+bench", "0");
    struct mos_buf out = {.arena = c->ctx.arena};
    mos_sha256(image, CARD_SIZE, chunk); /* it is one chunk */
    mos_sha256(chunk, sizeof chunk, hash);
    mos_ledger_stamp(l, stamp);
    mos_ledger_image(l, "card.img", "card", CARD_SIZE, 512, hash, NULL);
    mos_ledger_medium(l, "sd", 1ull << 30);
    for (size_t i = 0; i < CARD_PARTS; i++) {
        const struct card_part *p = &card_parts[i];
        mos_ledger_region(l, p->name, "piece", p->owner, p->number, "", p->at, p->length, "here");
        mos_ledger_region_is(l, p->grows, p->starts);
        if (i == CARD_ENV && has_variables(c, image)) {
            mos_ledger_region_unit(l, CARD_BLOCK, "hostname", "tide-<UNIT>");
            mos_ledger_region_unit(l, CARD_BLOCK, "ethaddr", "02:00:5e:<UNIT:3>");
        }
        mos_ledger_span(l, p->at, p->data, "data");
        if (p->data + CARD_ZERO <= p->length)
            mos_ledger_span(l, p->at + p->data, CARD_ZERO, "zero");
    }
    mos_ledger_chunk(l, chunk);
    mos_ledger_write(l, &out);
    mos_ledger_free(l);
    write_file(path_in(folder, "card.img"), image, CARD_SIZE);
    write_file(path_in(folder, "ledger.json"), out.data, out.length);
}
