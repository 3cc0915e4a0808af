/* What the files about build rules (build*.c) share. */
#ifndef MOS_KCONFIG_BUILD_INSIDE_H
#define MOS_KCONFIG_BUILD_INSIDE_H

#include "kconfig/build.h"

/* build-files.c: adds the rules of a build file, with the conditions that they stand in. */
void mos_kc_build_read_rules(struct mos_arena *arena, struct mos_kc_build *b, const char *file,
                             const char *text);
/* build.c: rules of an object or folder, once all are read: *first, and how many follow it. */
size_t mos_kc_build_rules(const struct mos_kc_build *b, const char *object,
                          const struct mos_kc_rule **first);

#endif
