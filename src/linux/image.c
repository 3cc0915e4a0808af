#include "linux/image.h"

#include "base/bytes.h"

#include <string.h>

/* Documentation/arm64/booting.rst, section 4: text_offset at 8, image_size at 16, flags at 24,
 * "ARM\x64" at 56.  Flag bit 3: the 2 MiB aligned base may be anywhere in RAM. */
static bool read_arm64(const uint8_t *head, size_t length, uint64_t file_size,
                       struct mos_kernel_header *out) {
    if (length < 64 || mos_le32(head + 56) != 0x644d5241)
        return false;
    uint64_t size = mos_le64(head + 16);
    *out = (struct mos_kernel_header){.format = "arm64 Image",
                                      .cpu = "arm64",
                                      .boot_command = "booti",
                                      .text_offset = mos_le64(head + 8),
                                      .alignment = 2 << 20,
                                      .running_size = mos_max(size, file_size),
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
                                      .boot_command = "booti",
                                      .text_offset = mos_le64(head + 8),
                                      .alignment = 2 << 20,
                                      .running_size = mos_max(mos_le64(head + 16), file_size)};
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
                                      .boot_command = "bootz",
                                      .alignment = 4096,
                                      .running_size = file_size,
                                      .file_size = mos_le32(head + 44) - mos_le32(head + 40),
                                      .anywhere = true};
    return true;
}
const struct mos_kernel_format mos_kernel_zimage = {"zImage", read_zimage};

/* Documentation/x86/boot.rst: "HdrS" at 0x202. */
static bool read_bzimage(const uint8_t *head, size_t length, uint64_t file_size,
                         struct mos_kernel_header *out) {
    if (length < 0x264 || memcmp(head + 0x202, "HdrS", 4) != 0)
        return false;
    *out = (struct mos_kernel_header){
        .format = "bzImage", .cpu = "x86", .alignment = 4096, .running_size = file_size};
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

static bool read_compressed(const uint8_t *head, size_t length, uint64_t file_size,
                            struct mos_kernel_header *out) {
    static const struct {
        const char *name;
        size_t length;
        const char magic[7];
    } kinds[] = {{"gzip file", 2, "\x1f\x8b"},
                 {"xz file", 6,
                  "\xfd"
                  "7zXZ\0"},
                 {"zstd file", 4, "\x28\xb5\x2f\xfd"},
                 {"lz4 file", 4, "\x04\x22\x4d\x18"},
                 {"bzip2 file", 3, "BZh"}};
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++)
        if (length >= kinds[i].length && memcmp(head, kinds[i].magic, kinds[i].length) == 0) {
            *out = (struct mos_kernel_header){
                .format = kinds[i].name, .alignment = 4096, .running_size = file_size};
            return true;
        }
    return false;
}
const struct mos_kernel_format mos_kernel_compressed = {"compressed", read_compressed};

bool mos_kernel_read(const uint8_t *head, size_t length, uint64_t file_size,
                     struct mos_kernel_header *out) {
    static const struct mos_kernel_format *const formats[] = {
        &mos_kernel_arm64,   &mos_kernel_riscv, &mos_kernel_zimage,
        &mos_kernel_bzimage, &mos_kernel_elf,   &mos_kernel_compressed};
    for (size_t i = 0; i < sizeof formats / sizeof *formats; i++)
        if (formats[i]->read(head, length, file_size, out))
            return true;
    return false;
}
