/* The host of this computer: POSIX.1-2008 with Linux where it is better. */
#ifndef MOS_PLATFORM_PLATFORM_H
#define MOS_PLATFORM_PLATFORM_H

#include "mosaicum/platform.h"

#include <stdio.h>

void mos_platform_workers(struct mos_host *host);  /* workers.c fills its functions in */
void mos_platform_programs(struct mos_host *host); /* programs.c */
void mos_platform_folders(struct mos_host *host);  /* folders.c */
extern const struct mos_computer mos_platform_computer; /* computer.c */
extern const struct mos_wires mos_platform_wires;       /* wires.c */

/* files.c: what the system says of a file, as a host tells it. */
struct stat;
void files_info(const struct stat *st, struct mos_file_info *out);

/* streams.c: a stream whose bytes go to a function; NULL: no memory.  write returns how many bytes
 * it took; fewer than `length` is an error of the stream. */
FILE *mos_platform_stream(size_t (*write)(void *self, const char *bytes, size_t length),
                          void *self);
/* Bytes that nobody can foresee; false: there are none. */
bool mos_platform_random(void *to, size_t length);

#endif
