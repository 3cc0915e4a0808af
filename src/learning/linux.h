/* What a running Linux is asked at its shell, whoever made it. */
#ifndef MOS_LEARNING_LINUX_H
#define MOS_LEARNING_LINUX_H

#include "learning/learned.h"

/* The first questions; later ones follow from the answers.  access: the file (below /) by which
 * such a system reaches its loader's variables. */
void mos_learned_ask_linux(struct mos_learned *l, const char *access);

#endif
