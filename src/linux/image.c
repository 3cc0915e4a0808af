#include "linux/image.h"

#include "base/bytes.h"

#include <string.h>

/* An image that firmware may start, too, says in a table of sections where its bytes end (PE/COFF,
 * sections 3 and 4); 0: it says nothing. */
static uint64_t end_of_sections(const uint8_t *head, size_t length) {
    uint64_t at = length >= 64 && memcmp(head, "MZ", 2) == 0 ? mos_le32(head + 60) : length,
             end = 0;
    if (at > length || length - at < 24 || memcmp(head + at, "PE\0\0", 4) != 0)
        return 0;
    unsigned count = mos_le16(head + at + 6);
    at += 24 + (uint64_t)mos_le16(head + at + 20);
    for (; count && at <= length && length - at >= 40; count--, at += 40)
        end = mos_max(end, (uint64_t)mos_le32(head + at + 16) + mos_le32(head + at + 20));
    return end;
}

/* Documentation/arm64/booting.rst, section 4: text_offset at 8, image_size at 16, flags at 24,
 * "ARM\x64" at 56.  Flag bit 3: the 2 MiB aligned base may be anywhere in RAM. */
static bool read_arm64(const uint8_t *head, size_t length, uint64_t file_size,
                       struct mos_kernel_header *out) {
    if (length < 64 || mos_le32(head + 56) != 0x644d5241)
        return false;
    uint64_t size = mos_le64(head + 16);
    *out = (struct mos_kernel_header){.format = "arm64 Image",
                                      .cpu = "arm64",
                                      .form = MOS_KERNEL_IMAGE,
                                      .text_offset = mos_le64(head + 8),
                                      .alignment = 2 << 20,
                                      .running_size = mos_max(size, file_size),
                                      .stated_size = end_of_sections(head, length),
                                      .anywhere = mos_le64(head + 24) >> 3 & 1};
    if (size == 0) /* before 3.17: the offset is not to be trusted either */
        out->text_offset = 0x80000;
    return true;
}
const struct mos_kernel_format mos_kernel_arm64 = {"arm64 Image", read_arm64};

/* Documentation/riscv/boot-image-header.rst: the same places, magic "RSC\x05" at 56.  The loader
 * moves it to text_offset from the start of RAM, wherever it was loaded. */
static bool read_riscv(const uint8_t *head, size_t length, uint64_t file_size,
                       struct mos_kernel_header *out) {
    if (length < 64 || mos_le32(head + 56) != 0x05435352)
        return false;
    *out = (struct mos_kernel_header){.format = "RISC-V Image",
                                      .cpu = "riscv64",
                                      .form = MOS_KERNEL_IMAGE,
                                      .text_offset = mos_le64(head + 8),
                                      .alignment = 2 << 20,
                                      .running_size = mos_max(mos_le64(head + 16), file_size),
                                      .stated_size = end_of_sections(head, length)};
    return true;
}
const struct mos_kernel_format mos_kernel_riscv = {"RISC-V Image", read_riscv};

/* 32-bit Arm zImage: 0x016f2818 at 36, start and end at 40 and 44. */
static bool read_zimage(const uint8_t *head, size_t length, uint64_t file_size,
                        struct mos_kernel_header *out) {
    if (length < 48 || mos_le32(head + 36) != 0x016f2818)
        return false;
    *out = (struct mos_kernel_header){.format = "32-bit Arm zImage",
                                      .cpu = "arm",
                                      .form = MOS_KERNEL_ZIMAGE,
                                      .alignment = 4096,
                                      .running_size = file_size,
                                      .stated_size = mos_le32(head + 44) - mos_le32(head + 40),
                                      .anywhere = true};
    return true;
}
const struct mos_kernel_format mos_kernel_zimage = {"zImage", read_zimage};

/* Documentation/x86/boot.rst: "HdrS" at 0x202; xloadflags at 0x236, since version 2.12, tell
 * whether it has a 64-bit start. */
static bool read_bzimage(const uint8_t *head, size_t length, uint64_t file_size,
                         struct mos_kernel_header *out) {
    if (length < 0x264 || memcmp(head + 0x202, "HdrS", 4) != 0)
        return false;
    *out = (struct mos_kernel_header){
        .format = "bzImage",
        .cpu = mos_le16(head + 0x206) >= 0x20c && mos_le16(head + 0x236) & 1 ? "x86-64" : "x86",
        .alignment = 4096, /* init_size, at 0x260, is what it needs while it expands itself */
        .running_size = mos_max(file_size, mos_le32(head + 0x260))};
    return true;
}
const struct mos_kernel_format mos_kernel_bzimage = {"bzImage", read_bzimage};

static bool read_elf(const uint8_t *head, size_t length, uint64_t file_size,
                     struct mos_kernel_header *out) {
    if (length < 64 || memcmp(head, "\177ELF", 4) != 0)
        return false;
    *out = (struct mos_kernel_header){
        .format = "ELF program", .alignment = 4096, .running_size = file_size};
    return true;
}
const struct mos_kernel_format mos_kernel_elf = {"ELF", read_elf};

/* A 64-byte legacy header, which several loaders write and read: big-endian, magic, then size at
 * 12, load 16, entry 20, architecture 29, type 30, compression 31.  Its sums are checked where it
 * is used. */
static bool read_legacy(const uint8_t *head, size_t length, uint64_t file_size,
                        struct mos_kernel_header *out) {
    enum { MAGIC = 0x27051956, KERNEL = 2, ARM = 2, ARM64 = 22, RISCV = 26 };
    static const char *const kinds[] = {NULL, "gzip", "bzip2", "lzma", "lzo", "lz4", "zstd"};
    if (length < 64 || mos_be32(head) != MAGIC || head[30] != KERNEL ||
        head[31] >= sizeof kinds / sizeof *kinds)
        return false;
    *out = (struct mos_kernel_header){.format = "legacy kernel file",
                                      .form = MOS_KERNEL_WRAPPED,
                                      .cpu = head[29] == ARM     ? "arm"
                                             : head[29] == ARM64 ? "arm64"
                                             : head[29] == RISCV ? "riscv64"
                                                                 : NULL,
                                      .compression = kinds[head[31]],
                                      .alignment = 4096,
                                      .running_size = file_size,
                                      .stated_size = 64 + (uint64_t)mos_be32(head + 12),
                                      .wrapped = true,
                                      .load = mos_be32(head + 16),
                                      .entry = mos_be32(head + 20)};
    return true;
}
const struct mos_kernel_format mos_kernel_legacy = {"legacy", read_legacy};

static bool read_compressed(const uint8_t *head, size_t length, uint64_t file_size,
                            struct mos_kernel_header *out) {
    static const struct {
        const char *name, *compression;
        size_t length;
        const char magic[7];
    } kinds[] = {{"gzip file", "gzip", 2, "\x1f\x8b"},
                 {"xz file", "xz", 6,
                  "\xfd"
                  "7zXZ\0"},
                 {"zstd file", "zstd", 4, "\x28\xb5\x2f\xfd"},
                 {"lz4 file", "lz4", 4, "\x04\x22\x4d\x18"},
                 {"bzip2 file", "bzip2", 3, "BZh"},
                 {"lzma file", "lzma", 3, "\x5d\0\0"}};
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++)
        if (length >= kinds[i].length && memcmp(head, kinds[i].magic, kinds[i].length) == 0) {
            *out = (struct mos_kernel_header){.format = kinds[i].name,
                                              .compression = kinds[i].compression,
                                              .alignment = 4096,
                                              .running_size = file_size};
            return true;
        }
    return false;
}
const struct mos_kernel_format mos_kernel_compressed = {"compressed", read_compressed};

bool mos_kernel_read(const uint8_t *head, size_t length, uint64_t file_size,
                     struct mos_kernel_header *out) {
    static const struct mos_kernel_format *const formats[] = {
        &mos_kernel_arm64, &mos_kernel_riscv,  &mos_kernel_zimage,    &mos_kernel_bzimage,
        &mos_kernel_elf,   &mos_kernel_legacy, &mos_kernel_compressed};
    for (size_t i = 0; i < sizeof formats / sizeof *formats; i++)
        if (formats[i]->read(head, length, file_size, out)) {
            out->held_size = file_size;
            return true;
        }
    return false;
}
