/* What a kernel's first bytes do not tell: how much a compressed one is once it is expanded, and
 * where one that expands itself puts that. */
#include "linux/image.h"

#include "base/bytes.h"
#include "content/content.h"

#include <string.h>

enum { MOST_KERNEL = 256 << 20, LEGACY_HEADER = 64 };

/* A zImage's table of facts (arch/arm/boot/compressed: head.S, vmlinux.lds.S): its offset at 0x38
 * when 0x34 says so; words: length, "KLSZ", the offset of the expanded size, the size of what is
 * cleared behind it, and since 5.9 the text offset. */
static void measure_zimage(const uint8_t *p, size_t length, struct mos_kernel_facts *h) {
    enum { MARK = 0x45454545, TAG = 0x5a534c4b, USUAL_OFFSET = 0x8000 };
    uint32_t at = length >= 0x3c && mos_le32(p + 0x34) == MARK ? mos_le32(p + 0x38) : 0;
    h->expands_to = USUAL_OFFSET;
    if (!at || at > length || length - at < 16 || mos_le32(p + at + 4) != TAG)
        return;
    uint32_t words = mos_le32(p + at), size_at = mos_le32(p + at + 8);
    if (size_at > length || length - size_at < 4)
        return;
    h->expanded_size = (uint64_t)mos_le32(p + size_at) + mos_le32(p + at + 12);
    if (words >= 5 && length - at >= 20 && mos_le32(p + at + 16) < 128 << 20)
        h->expands_to = mos_le32(p + at + 16);
}

bool mos_kernel_measure(struct mos_ctx *ctx, const uint8_t *bytes, size_t length,
                        const struct mos_kernel_header *h, struct mos_kernel_facts *out) {
    *out = (struct mos_kernel_facts){0};
    if (h->wrapped) {
        if (length <= LEGACY_HEADER)
            return false;
        bytes += LEGACY_HEADER;
        length -= LEGACY_HEADER;
    }
    if (h->compression && (!mos_compression_of(bytes, length) ||
                           !mos_unpack_bytes(ctx, &bytes, &length, MOST_KERNEL)))
        return false;
    out->plain_size = length;
    out->head_length = mos_min(length, sizeof out->head);
    memcpy(out->head, bytes, out->head_length);
    struct mos_kernel_header inner;
    if (mos_kernel_read(out->head, out->head_length, length, &inner) &&
        inner.form == MOS_KERNEL_ZIMAGE)
        measure_zimage(bytes, length, out);
    return true;
}

/* What a zImage carries: it begins with the mark of its compression, and ends with the word that
 * says how much it expands to, which belongs to it in gzip only. */
static bool expand_zimage(struct mos_ctx *ctx, const uint8_t **bytes, size_t *length) {
    static const struct {
        const char *mark;
        size_t length, more;
    } marks[] = {{"\xfd"
                  "7zXZ",
                  6, 0},
                 {"\x28\xb5\x2f\xfd", 4, 0},
                 {"\x02\x21\x4c\x18", 4, 0},
                 {"\x1f\x8b\x08", 3, 4}};
    const uint8_t *p = *bytes;
    uint32_t at = *length >= 0x3c && mos_le32(p + 0x34) == 0x45454545 ? mos_le32(p + 0x38) : 0;
    if (!at || at > *length || *length - at < 12)
        return false;
    uint32_t end = mos_le32(p + at + 8);
    if (end > *length || *length - end < 4)
        return false;
    for (size_t i = 0; i < sizeof marks / sizeof *marks; i++)
        for (size_t from = 0x40; from + marks[i].length < end; from++) {
            if (memcmp(p + from, marks[i].mark, marks[i].length) != 0)
                continue;
            struct mos_error ignored = {0};
            struct mos_ctx quiet = mos_ctx_quiet(ctx, &ignored);
            const uint8_t *inside = p + from;
            size_t n = end + marks[i].more - from;
            if (mos_unpack_bytes(&quiet, &inside, &n, MOST_KERNEL) && n > end - from) {
                *bytes = inside;
                *length = n;
                return true;
            }
        }
    return false;
}

bool mos_kernel_expand(struct mos_ctx *ctx, const uint8_t **bytes, size_t *length, bool *wide) {
    struct mos_kernel_header h;
    if (!mos_kernel_read(*bytes, mos_min(*length, MOS_KERNEL_HEAD), *length, &h))
        return false;
    if (h.wrapped) {
        if (*length <= LEGACY_HEADER)
            return false;
        *bytes += LEGACY_HEADER;
        *length -= LEGACY_HEADER;
    }
    if (mos_compression_of(*bytes, *length) && !mos_unpack_bytes(ctx, bytes, length, MOST_KERNEL))
        return false;
    if (!mos_kernel_read(*bytes, mos_min(*length, MOS_KERNEL_HEAD), *length, &h))
        return false;
    *wide = h.form == MOS_KERNEL_IMAGE;
    return *wide || (h.form == MOS_KERNEL_ZIMAGE && expand_zimage(ctx, bytes, length));
}

bool mos_kernel_apply(struct mos_kernel_header *h, const struct mos_kernel_facts *f) {
    struct mos_kernel_header outer = *h;
    if (!mos_kernel_read(f->head, f->head_length, f->plain_size, h) || h->compression || h->wrapped)
        return false;
    h->expanded_size = f->expanded_size;
    h->expands_to = f->expands_to;
    h->compression = outer.compression;
    h->plain_size = f->plain_size;
    if (outer.stated_size > outer.held_size) { /* cut off outside, however whole the inside seems */
        h->stated_size = outer.stated_size;
        h->held_size = outer.held_size;
    }
    if (outer.wrapped) {
        h->wrapped = true;
        h->load = outer.load;
        h->entry = outer.entry;
        h->form = outer.form;
        h->format = outer.format;
        h->cpu = h->cpu ? h->cpu : outer.cpu;
    }
    return true;
}
