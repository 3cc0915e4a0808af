#include "linux/program.h"

#include "base/bytes.h"

#include <string.h>

/* ELF: the System V ABI, "Object Files" and "Program Header". */
enum { CLASS_64 = 2, PROGRAM_LOAD = 1, PROGRAM_INTERPRETER = 3, MOST_HEADERS = 128 };

static const char *cpu_of(unsigned machine, bool wide) {
    switch (machine) {
    case 3:
        return "x86";
    case 40:
        return "arm";
    case 62:
        return "x86-64";
    case 183:
        return "arm64";
    case 243:
        return wide ? "riscv64" : "riscv32";
    default:
        return NULL;
    }
}

bool mos_program_fits(const char *processor, const char *made_for) {
    static const char *const also[][2] = {{"arm64", "arm"}, {"x86-64", "x86"}};
    if (!processor || !made_for)
        return false;
    for (size_t i = 0; i < sizeof also / sizeof *also; i++)
        if (strcmp(processor, also[i][0]) == 0 && strcmp(made_for, also[i][1]) == 0)
            return true;
    return strcmp(processor, made_for) == 0;
}

bool mos_start_fits(const char *processor, const char *made_for) {
    return processor && made_for &&
           (strcmp(processor, made_for) == 0 ||
            (strncmp(processor, "x86", 3) == 0 && mos_program_fits(processor, made_for)));
}

static void read_elf(struct mos_arena *arena, const uint8_t *p, size_t length,
                     struct mos_program_info *out) {
    bool wide = p[4] == CLASS_64;
    uint64_t at = wide ? mos_le64(p + 32) : mos_le32(p + 28);
    unsigned size = mos_le16(p + (wide ? 54 : 42)), count = mos_le16(p + (wide ? 56 : 44));
    out->cpu = cpu_of(mos_le16(p + 18), wide);
    for (unsigned i = 0; i < count && i < MOST_HEADERS; i++) {
        uint64_t h = at + (uint64_t)i * size;
        if (at > length || size < (wide ? 56 : 32) || h > length || length - h < size)
            return;
        uint64_t offset = wide ? mos_le64(p + h + 8) : mos_le32(p + h + 4);
        uint64_t bytes = wide ? mos_le64(p + h + 32) : mos_le32(p + h + 16);
        if (mos_le32(p + h) == PROGRAM_LOAD && bytes)
            out->cut |= offset > length || bytes > length - offset;
        if (mos_le32(p + h) != PROGRAM_INTERPRETER || out->interpreter || offset > length ||
            bytes > length - offset || !bytes || bytes > 4096)
            continue;
        out->interpreter = mos_strndup(arena, (const char *)p + offset, (size_t)bytes);
    }
}

bool mos_program_read(struct mos_arena *arena, const uint8_t *head, size_t length,
                      struct mos_program_info *out) {
    *out = (struct mos_program_info){0};
    if (length >= 64 && memcmp(head, "\177ELF", 4) == 0) {
        out->elf = true;
        read_elf(arena, head, length, out);
        return true;
    }
    if (length < 3 || head[0] != '#' || head[1] != '!')
        return false;
    size_t at = 2, n = 0;
    while (at < length && (head[at] == ' ' || head[at] == '\t'))
        at++;
    /* fs/binfmt_script.c: only these end it, so a carriage return is part of its name */
    while (at + n < length && n < 255 && !memchr(" \t\n\0", head[at + n], 4))
        n++;
    out->script = true;
    out->interpreter = mos_strndup(arena, (const char *)head + at, n);
    return n > 0;
}

const char *mos_kernel_banner(struct mos_arena *arena, const uint8_t *bytes, size_t length) {
    static const char text[] = "Linux version ";
    const uint8_t *p = bytes, *end = bytes + length;
    while (p < end && (p = memchr(p, 'L', (size_t)(end - p)))) {
        if ((size_t)(end - p) > sizeof text && memcmp(p, text, sizeof text - 1) == 0 &&
            p[sizeof text - 1] >= '0' && p[sizeof text - 1] <= '9') {
            const char *release = (const char *)p + sizeof text - 1;
            size_t n = 0;
            while (release + n < (const char *)end && n < 64 && release[n] > ' ')
                n++;
            return mos_strndup(arena, release, n);
        }
        p++;
    }
    return NULL;
}
