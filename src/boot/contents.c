#include "boot/contents.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <assert.h>
#include <string.h>

/* The header, and behind it one row for each part; all numbers little-endian. */
enum {
    AT_MAGIC = 0,
    AT_VERSION = 8,
    AT_ROW_BYTES = 12,
    AT_LENGTH = 16,
    AT_COUNT = 24,
    AT_SUM = 28, /* CRC-32 of header and rows, with these four bytes zero */
    HEADER = 32,
    ROW_NAME = 0, /* texts end with a zero byte */
    ROW_KIND = 32,
    ROW_COMPRESSION = 48,
    ROW_OFFSET = 56,
    ROW_STORED = 64,
    ROW_SIZE = 72,
    ROW_LOAD = 80,
    ROW_ENTRY = 88,
    ROW_SUM = 96,
    ROW_FLAGS = 100,
    ROW = 104,
    COMPRESSION_BYTES = ROW_OFFSET - ROW_COMPRESSION,
    VERSION = 1,
    FLAG_LOAD = 1,
    FLAG_ENTRY = 2
};
static const char magic[AT_VERSION + 1] = "MOSAICUM";

bool mos_contents_is(const void *bytes, size_t length) {
    return length >= HEADER && memcmp(bytes, magic, AT_VERSION) == 0;
}

size_t mos_contents_room(size_t count) {
    return HEADER + count * ROW;
}

static void put_text(uint8_t *to, const char *text, size_t room) {
    size_t n = strlen(text);
    assert(n < room);
    memset(to, 0, room);
    memcpy(to, text, n);
}

void mos_contents_write(const struct mos_contents *c, uint8_t *to) {
    memset(to, 0, HEADER);
    memcpy(to, magic, AT_VERSION);
    mos_put_le32(to + AT_VERSION, VERSION);
    mos_put_le32(to + AT_ROW_BYTES, ROW);
    mos_put_le64(to + AT_LENGTH, c->length);
    mos_put_le32(to + AT_COUNT, (uint32_t)c->count);
    for (size_t i = 0; i < c->count; i++) {
        const struct mos_contents_row *r = &c->rows[i];
        uint8_t *p = to + HEADER + i * ROW;
        put_text(p + ROW_NAME, r->name, ROW_KIND - ROW_NAME);
        put_text(p + ROW_KIND, r->kind, ROW_COMPRESSION - ROW_KIND);
        put_text(p + ROW_COMPRESSION, r->compression, COMPRESSION_BYTES);
        mos_put_le64(p + ROW_OFFSET, r->offset);
        mos_put_le64(p + ROW_STORED, r->stored);
        mos_put_le64(p + ROW_SIZE, r->size);
        mos_put_le64(p + ROW_LOAD, r->has_load ? r->load : 0);
        mos_put_le64(p + ROW_ENTRY, r->has_entry ? r->entry : 0);
        mos_put_le32(p + ROW_SUM, r->sum);
        mos_put_le32(p + ROW_FLAGS,
                     (r->has_load ? FLAG_LOAD : 0) | (r->has_entry ? FLAG_ENTRY : 0));
    }
    mos_put_le32(to + AT_SUM, mos_crc32(0, to, mos_contents_room(c->count)));
}

/* A text of a row; NULL: it does not end, or a terminal would not show it. */
static const char *text_at(struct mos_arena *arena, const uint8_t *p, size_t room) {
    size_t n = strnlen((const char *)p, room);
    for (size_t i = 0; i < n; i++)
        if (p[i] <= ' ' || p[i] > '~' || p[i] == '/')
            return NULL;
    return n && n < room ? mos_strndup(arena, (const char *)p, n) : NULL;
}

static bool read_row(struct mos_arena *arena, const uint8_t *p, uint64_t length,
                     struct mos_contents_row *r) {
    uint32_t flags = mos_le32(p + ROW_FLAGS);
    *r = (struct mos_contents_row){.name = text_at(arena, p + ROW_NAME, ROW_KIND - ROW_NAME),
                                   .kind = text_at(arena, p + ROW_KIND, ROW_COMPRESSION - ROW_KIND),
                                   .compression =
                                       text_at(arena, p + ROW_COMPRESSION, COMPRESSION_BYTES),
                                   .offset = mos_le64(p + ROW_OFFSET),
                                   .stored = mos_le64(p + ROW_STORED),
                                   .size = mos_le64(p + ROW_SIZE),
                                   .load = mos_le64(p + ROW_LOAD),
                                   .entry = mos_le64(p + ROW_ENTRY),
                                   .sum = mos_le32(p + ROW_SUM),
                                   .has_load = flags & FLAG_LOAD,
                                   .has_entry = flags & FLAG_ENTRY};
    return r->name && r->kind && r->compression && r->offset <= length &&
           r->stored <= length - r->offset;
}

bool mos_contents_read(struct mos_arena *arena, const uint8_t *bytes, size_t length, uint64_t whole,
                       struct mos_contents *out, const char **problem) {
    static const uint8_t zeros[4];
    *problem = "it has no table of contents";
    if (!mos_contents_is(bytes, length))
        return false;
    uint32_t count = mos_le32(bytes + AT_COUNT);
    *out = (struct mos_contents){.length = mos_le64(bytes + AT_LENGTH), .count = count};
    *problem = "its table of contents is of a version that is not known";
    if (mos_le32(bytes + AT_VERSION) != VERSION || mos_le32(bytes + AT_ROW_BYTES) != ROW)
        return false;
    *problem = "its table of contents is damaged";
    if (count > MOS_CONTENTS_ROWS || mos_contents_room(count) > length)
        return false;
    uint32_t sum = mos_crc32(0, bytes, AT_SUM);
    sum = mos_crc32(sum, zeros, sizeof zeros);
    sum = mos_crc32(sum, bytes + HEADER, count * (size_t)ROW);
    if (sum != mos_le32(bytes + AT_SUM))
        return false;
    *problem = "it is cut off";
    if (out->length > whole)
        return false;
    *problem = "a row of its table of contents is damaged";
    out->rows = mos_alloc_array(arena, count + 1, sizeof *out->rows);
    for (uint32_t i = 0; i < count; i++)
        if (!read_row(arena, bytes + HEADER + (size_t)i * ROW, out->length, &out->rows[i]))
            return false;
    *problem = NULL;
    return true;
}
