/* Programs that a kernel starts: ELF files and scripts, by their first bytes. */
#ifndef MOS_LINUX_PROGRAM_H
#define MOS_LINUX_PROGRAM_H

#include "base/buf.h"

enum { MOS_PROGRAM_HEAD = 64 << 10 };

struct mos_program_info {
    bool elf, script;
    const char *cpu;         /* ELF: "arm64", "arm", "riscv64", "x86", "x86-64", or NULL: other */
    bool cut;                /* ELF: a part that is loaded lies behind the end of what was given */
    const char *interpreter; /* of a script, or the loader of a dynamic program; NULL: none */
};

/* false: the kernel cannot start it. */
bool mos_program_read(struct mos_arena *arena, const uint8_t *head, size_t length,
                      struct mos_program_info *out);

/* May a processor run what is made for that one?  64-bit Arm and PCs run their 32-bit programs,
 * too. NULL on either side: not known, no. */
bool mos_program_fits(const char *processor, const char *made_for);

/* The same of what a board is started with: exactly its own, but that every PC begins with 32 bits.
 */
bool mos_start_fits(const char *processor, const char *made_for);

/* The release in the text "Linux version RELEASE ", as kernels carry it; NULL: it is not there. */
const char *mos_kernel_banner(struct mos_arena *arena, const uint8_t *bytes, size_t length);

#endif
