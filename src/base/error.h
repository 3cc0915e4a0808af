/* Errors: the channel for what stops the work (exit status 2 or 3).  What is wrong with the
 * user's board is a finding (base/finding.h), not an error. */
#ifndef MOS_BASE_ERROR_H
#define MOS_BASE_ERROR_H

#include <stdbool.h>

enum mos_error_kind {
    MOS_ERROR_NONE,
    MOS_ERROR_USAGE,  /* exit 2: wrong usage, or a file that cannot be parsed at all */
    MOS_ERROR_SYSTEM, /* exit 3: I/O, memory, a helper program */
    MOS_ERROR_SAFETY, /* exit 4: refused */
};

struct mos_error {
    enum mos_error_kind kind;
    int errnum;         /* errno value or 0 */
    char message[1024]; /* one complete sentence, then "; while …" frames */
};

/* What an errno value means, those of mosaicum/host.h included. */
const char *mos_errno_text(int errnum);
/* Writes a sentence; an errno value is added as text (MOS_OUT_OF_REACH makes it a refusal).  Always
 * returns false, so that a caller may `return mos_fail(…)`.  The first error wins: later calls on a
 * set error change nothing. */
bool mos_fail(struct mos_error *error, enum mos_error_kind kind, int errnum, const char *format,
              ...) __attribute__((format(printf, 4, 5)));
/* Adds what was being done; returns false. */
bool mos_while(struct mos_error *error, const char *format, ...)
    __attribute__((format(printf, 2, 3)));

#endif
