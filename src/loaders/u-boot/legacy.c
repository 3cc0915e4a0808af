#include "loaders/u-boot/legacy.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <assert.h>
#include <string.h>

enum { MAGIC = 0x27051956, OS_LINUX = 5, CPU_ARM64 = 22, COMPRESSION_NONE = 0 };

/* Offsets of the fields. */
enum {
    AT_MAGIC = 0,
    AT_HEADER_CRC = 4,
    AT_TIME = 8,
    AT_SIZE = 12,
    AT_LOAD = 16,
    AT_ENTRY = 20,
    AT_PAYLOAD_CRC = 24,
    AT_OS = 28,
    AT_CPU = 29,
    AT_TYPE = 30,
    AT_COMPRESSION = 31,
    AT_NAME = 32,
};

void mos_legacy_seal(uint8_t h[MOS_LEGACY_HEADER], const void *payload, size_t length) {
    assert(length <= UINT32_MAX);
    mos_put_be32(h + AT_SIZE, (uint32_t)length);
    mos_put_be32(h + AT_PAYLOAD_CRC, mos_crc32(0, payload, length));
    mos_put_be32(h + AT_HEADER_CRC, 0);
    mos_put_be32(h + AT_HEADER_CRC, mos_crc32(0, h, MOS_LEGACY_HEADER)); /* its field is 0 then */
}

void mos_legacy_script(struct mos_buf *out, const char *name, uint32_t time, const char *text,
                       size_t length) {
    assert(length <= UINT32_MAX - 8);
    struct mos_buf payload = {.arena = out->arena};
    mos_buf_be32(&payload, (uint32_t)length);
    mos_buf_be32(&payload, 0);
    mos_buf_add(&payload, text, length);
    uint8_t h[MOS_LEGACY_HEADER] = {0};
    mos_put_be32(h + AT_MAGIC, MAGIC);
    mos_put_be32(h + AT_TIME, time);
    h[AT_OS] = OS_LINUX;
    h[AT_CPU] = CPU_ARM64;
    h[AT_TYPE] = MOS_LEGACY_SCRIPT;
    h[AT_COMPRESSION] = COMPRESSION_NONE;
    size_t n = strlen(name);
    memcpy(h + AT_NAME, name, n < MOS_LEGACY_NAME ? n : MOS_LEGACY_NAME);
    mos_legacy_seal(h, payload.data, payload.length);
    mos_buf_add(out, h, sizeof h);
    mos_buf_add(out, payload.data, payload.length);
}

/* The header's number of a word; -1: it has none. */
static int number_of(const char *word, const char *const *words, const int *numbers) {
    for (size_t i = 0; words[i]; i++)
        if (strcmp(words[i], word) == 0)
            return numbers[i];
    return -1;
}

const char *mos_legacy_wrap(const struct mos_wrapped *w, struct mos_buf *out) {
    assert(w->name && w->cpu && w->type && (w->bytes || !w->length));
    static const char *const cpus[] = {"arm", "arm64", "riscv64", "x86-64", NULL},
                             *const types[] = {"kernel", "ramdisk", NULL},
                             *const compressions[] = {"gz", "zst", NULL};
    static const int cpu_numbers[] = {2, 22, 26, 24}, type_numbers[] = {2, 3},
                     packed_numbers[] = {1, 6};
    int cpu = number_of(w->cpu, cpus, cpu_numbers), type = number_of(w->type, types, type_numbers),
        packed = w->compression ? number_of(w->compression, compressions, packed_numbers)
                                : COMPRESSION_NONE;
    if (cpu < 0 || type < 0 || packed < 0 || w->length > UINT32_MAX)
        return cpu < 0      ? "the header has no number for this processor."
               : type < 0   ? "the header is for a kernel or a ramdisk."
               : packed < 0 ? "the header has no number for this compression."
                            : "it is larger than the header can say.";
    uint8_t h[MOS_LEGACY_HEADER] = {0};
    mos_put_be32(h + AT_MAGIC, MAGIC);
    mos_put_be32(h + AT_TIME, (uint32_t)w->date);
    mos_put_be32(h + AT_LOAD, w->load);
    mos_put_be32(h + AT_ENTRY, w->entry);
    h[AT_OS] = OS_LINUX;
    h[AT_CPU] = (uint8_t)cpu;
    h[AT_TYPE] = (uint8_t)type;
    h[AT_COMPRESSION] = (uint8_t)packed;
    size_t n = strlen(w->name);
    memcpy(h + AT_NAME, w->name, n < MOS_LEGACY_NAME ? n : MOS_LEGACY_NAME);
    mos_legacy_seal(h, w->bytes, w->length);
    mos_buf_add(out, h, sizeof h);
    mos_buf_add(out, w->bytes, w->length);
    return NULL;
}

bool mos_legacy_is(const uint8_t *data, size_t length) {
    return length >= MOS_LEGACY_HEADER && mos_be32(data) == MAGIC;
}

bool mos_legacy_read(const uint8_t *data, size_t length, struct mos_legacy *out,
                     const char **problem) {
    assert(data || !length);
    uint8_t h[MOS_LEGACY_HEADER];
    *problem = "it has no legacy header";
    if (!mos_legacy_is(data, length))
        return false;
    memcpy(h, data, sizeof h);
    uint32_t stated = mos_be32(h + AT_HEADER_CRC);
    mos_put_be32(h + AT_HEADER_CRC, 0);
    *problem = "the header's sum is wrong";
    if (mos_crc32(0, h, sizeof h) != stated)
        return false;
    struct mos_legacy v = {
        .time = mos_be32(h + AT_TIME),
        .size = mos_be32(h + AT_SIZE),
        .load = mos_be32(h + AT_LOAD),
        .entry = mos_be32(h + AT_ENTRY),
        .payload_crc = mos_be32(h + AT_PAYLOAD_CRC),
        .os = h[AT_OS],
        .cpu = h[AT_CPU],
        .type = h[AT_TYPE],
        .compression = h[AT_COMPRESSION],
    };
    memcpy(v.name, h + AT_NAME, MOS_LEGACY_NAME);
    if (length > MOS_LEGACY_HEADER) {
        *problem = "the payload is shorter than its header says";
        if (v.size > length - MOS_LEGACY_HEADER)
            return false;
        *problem = "the payload's sum is wrong";
        if (mos_crc32(0, data + MOS_LEGACY_HEADER, v.size) != v.payload_crc)
            return false;
    }
    *out = v;
    *problem = NULL;
    return true;
}
