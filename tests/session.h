/* The loader's shell as the rehearsal has it, and what the real one said to the same lines. */
#ifndef MOS_TESTS_SESSION_H
#define MOS_TESTS_SESSION_H

#include "support.h"

#include "rehearse/rehearse.h"

/* A shell of the rehearsal on an image, as the loader for a virtual arm64 machine has it.
 * compiled: the variables that are in the loader, or NULL.  All of it lives in the core's arena. */
struct mos_rehearsal_shell *session_shell(struct core *c, const char *image,
                                          const struct mos_map *compiled);

/* Builds the card of a copy of the demo that has a folder s with menus, scripts, a parcel and other
 * things to try (tests/data/session); its path, borrowed. */
const char *session_image(void);

/* Takes out what differs from one run or version to the next: times, and the loader's help. */
void session_plain(char *text);

/* The record: a line of "> " and what was typed, then each line of the answer behind "| ", or one
 * "?" where the answer depends on what only that loader has. */
const char *session_path(void);
void session_note(struct mos_buf *out, const char *line, const char *said);

#endif
