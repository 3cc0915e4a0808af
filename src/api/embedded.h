/* Files that are built into the program (cmake/embed.cmake makes the definitions). */
#ifndef MOS_API_EMBEDDED_H
#define MOS_API_EMBEDDED_H

#include <stddef.h>

/* docs/rules/ID.md, NUL-terminated; NULL: there is none. */
const char *mos_embedded_page(const char *rule);

struct mos_embedded_file {
    const char *path; /* below demo/ */
    const unsigned char *bytes;
    size_t length;
};
extern const struct mos_embedded_file mos_embedded_demo[];
extern const size_t mos_embedded_demo_count;

#endif
