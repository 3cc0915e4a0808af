/* Small binaries: as little of a program, a module or a kernel as the core looks at. */
#ifndef MOS_TESTS_BINARIES_H
#define MOS_TESTS_BINARIES_H

#include "base/buf.h"

/* A program of 1024 bytes with three program headers; `loaded` bytes of it go to memory, and its
 * interpreter may be NULL.  Returns 1024. */
size_t make_program(uint8_t *p, bool wide, unsigned machine, const char *interpreter,
                    size_t loaded);

/* An ELF file of arm (or, wide, arm64) with these sections and nothing else. */
struct elf_section {
    const char *name;
    const void *bytes;
    size_t length;
};
void make_sections(struct mos_buf *out, bool wide, const struct elf_section *sections,
                   size_t count);
/* A module of arm (or, wide, arm64): one section, .modinfo, with these facts, each ended by
 * a zero byte. */
void make_module(struct mos_buf *out, bool wide, const char *facts, size_t length);

enum { ZIMAGE = 8192 };
/* A 32-bit Arm kernel that expands itself to 0x208000 behind its base, over 20 MiB; its table of
 * facts lies at 8000, and the size of what it expands at 7000. */
void make_zimage(uint8_t z[ZIMAGE]);

#endif
