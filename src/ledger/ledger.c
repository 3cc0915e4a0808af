#include "ledger/ledger.h"

#include "base/hash.h"

#include <assert.h>
#include <jansson.h>
#include <stdlib.h>
#include <string.h>

struct mos_ledger {
    json_t *root, *inputs, *outputs, *images, *image;
};

static json_t *child(json_t *parent, const char *key, json_t *value) {
    json_object_set_new(parent, key, value);
    return value;
}

static json_t *hash_text(const uint8_t hash[32]) {
    char hex[65];
    mos_sha256_hex(hash, hex);
    return json_string(hex);
}

struct mos_ledger *mos_ledger_new(const char *workspace, const char *board, const char *version) {
    struct mos_ledger *l = calloc(1, sizeof *l);
    if (!l)
        return NULL;
    l->root = json_object();
    json_object_set_new(l->root, "mosaicum", json_integer(1));
    json_object_set_new(l->root, "built-by", json_string(version));
    json_object_set_new(l->root, "workspace", json_string(workspace));
    json_object_set_new(l->root, "board", json_string(board));
    l->inputs = child(l->root, "inputs", json_array());
    l->outputs = child(l->root, "outputs", json_array());
    l->images = child(l->root, "images", json_array());
    return l;
}

void mos_ledger_free(struct mos_ledger *ledger) {
    if (!ledger)
        return;
    json_decref(ledger->root);
    free(ledger);
}

void mos_ledger_input(struct mos_ledger *l, const char *name, const char *file, const char *member,
                      uint64_t size, const uint8_t sha256[32], const char *place) {
    json_t *o = json_object();
    json_object_set_new(o, "name", json_string(name));
    json_object_set_new(o, "file", json_string(file));
    if (member)
        json_object_set_new(o, "path", json_string(member));
    json_object_set_new(o, "size", json_integer((json_int_t)size));
    json_object_set_new(o, "sha256", hash_text(sha256));
    json_object_set_new(o, "from", json_string(place));
    json_array_append_new(l->inputs, o);
}

void mos_ledger_input_fact(struct mos_ledger *l, const char *key, const char *text) {
    json_t *last = json_array_get(l->inputs, json_array_size(l->inputs) - 1);
    if (text)
        json_object_set_new(last, key, json_string(text));
}

void mos_ledger_output(struct mos_ledger *l, const char *file, uint64_t size,
                       const uint8_t sha256[32]) {
    json_t *o = json_object();
    json_object_set_new(o, "file", json_string(file));
    json_object_set_new(o, "size", json_integer((json_int_t)size));
    json_object_set_new(o, "sha256", hash_text(sha256));
    json_array_append_new(l->outputs, o);
}

void mos_ledger_name(struct mos_ledger *l, const char *name, const char *of) {
    json_t *list = json_object_get(l->root, "names");
    if (!list)
        list = child(l->root, "names", json_array());
    json_array_append_new(list, json_pack("{s:s,s:s}", "file", name, "of", of));
}

void mos_ledger_image(struct mos_ledger *l, const char *file, const char *medium, uint64_t size,
                      uint32_t sector, const uint8_t hash[32], const uint8_t *whole) {
    l->image = json_object();
    json_object_set_new(l->image, "file", json_string(file));
    json_object_set_new(l->image, "medium", json_string(medium));
    json_object_set_new(l->image, "size", json_integer((json_int_t)size));
    json_object_set_new(l->image, "sector", json_integer(sector));
    if (whole)
        json_object_set_new(l->image, "sha256", hash_text(whole));
    json_object_set_new(l->image, "hash-of-chunks", hash_text(hash));
    json_object_set_new(l->image, "chunk-size", json_integer(MOS_CHUNK_SIZE));
    child(l->image, "regions", json_array());
    child(l->image, "spans", json_array());
    child(l->image, "chunks", json_array());
    json_array_append_new(l->images, l->image);
}

void mos_ledger_medium(struct mos_ledger *l, const char *kind, uint64_t at_most) {
    assert(l->image);
    if (kind)
        json_object_set_new(l->image, "kind", json_string(kind));
    if (at_most)
        json_object_set_new(l->image, "at-most", json_integer((json_int_t)at_most));
}

void mos_ledger_chunk(struct mos_ledger *l, const uint8_t hash[32]) {
    assert(l->image);
    json_array_append_new(json_object_get(l->image, "chunks"), hash_text(hash));
}

void mos_ledger_region(struct mos_ledger *l, const char *name, const char *holds, const char *owner,
                       unsigned number, const char *id, uint64_t offset, uint64_t length,
                       const char *place) {
    assert(l->image);
    json_t *o = json_object();
    json_object_set_new(o, "name", json_string(name));
    json_object_set_new(o, "holds", json_string(holds));
    json_object_set_new(o, "owner", json_string(owner));
    if (number) {
        json_object_set_new(o, "number", json_integer(number));
        json_object_set_new(o, "id", json_string(id));
    }
    json_object_set_new(o, "offset", json_integer((json_int_t)offset));
    json_object_set_new(o, "length", json_integer((json_int_t)length));
    json_object_set_new(o, "from", json_string(place));
    json_array_append_new(json_object_get(l->image, "regions"), o);
}

void mos_ledger_region_is(struct mos_ledger *l, bool grows, bool starts) {
    json_t *regions = json_object_get(l->image, "regions");
    json_t *last = json_array_get(regions, json_array_size(regions) - 1);
    if (grows)
        json_object_set_new(last, "grows", json_true());
    if (starts)
        json_object_set_new(last, "starts", json_true());
}

void mos_ledger_region_unit(struct mos_ledger *l, uint64_t size, const char *name,
                            const char *pattern) {
    json_t *regions = json_object_get(l->image, "regions");
    json_t *last = json_array_get(regions, json_array_size(regions) - 1);
    json_object_set_new(last, "block", json_integer((json_int_t)size));
    if (!json_object_get(last, "per-unit"))
        json_object_set_new(last, "per-unit", json_object());
    json_object_set_new(json_object_get(last, "per-unit"), name, json_string(pattern));
}

void mos_ledger_span(struct mos_ledger *l, uint64_t offset, uint64_t length, const char *kind) {
    assert(l->image && length);
    json_array_append_new(json_object_get(l->image, "spans"),
                          json_pack("{s:I,s:I,s:s}", "offset", (json_int_t)offset, "length",
                                    (json_int_t)length, "kind", kind));
}

void mos_ledger_budget(struct mos_ledger *l, const char *name, uint64_t used, uint64_t limit) {
    json_t *list = json_object_get(l->root, "budgets");
    if (!list)
        list = child(l->root, "budgets", json_array());
    json_array_append_new(list, json_pack("{s:s,s:I,s:I}", "name", name, "used", (json_int_t)used,
                                          "limit", (json_int_t)limit));
}

void mos_ledger_stamp(struct mos_ledger *l, const char *stamp) {
    json_object_set_new(l->root, "stamp", json_string(stamp));
}

static int append(const char *bytes, size_t length, void *self) {
    mos_buf_add(self, bytes, length);
    return 0;
}

void mos_ledger_write(const struct mos_ledger *ledger, struct mos_buf *out) {
    json_dump_callback(ledger->root, append, out, JSON_INDENT(1) | JSON_PRESERVE_ORDER);
    mos_buf_char(out, '\n');
}
