/* Passwords as crypt(5) hashes them (libcrypt). */
#ifndef MOS_BASE_SECRET_H
#define MOS_BASE_SECRET_H

#include "base/arena.h"

#include <stdbool.h>

/* SHA-512 crypt with a salt made from `seed`, so that the same definition gives the same bytes.
 * NULL: libcrypt refuses. */
const char *mos_password_hash(struct mos_arena *arena, const char *password, const char *seed);
/* Is this the password of that hash? */
bool mos_password_fits(struct mos_arena *arena, const char *password, const char *hash);
/* Does a name (of a variable, a key) say that its value is a secret? */
bool mos_sounds_secret(const char *name);
/* Has a text the form of a hash (and is no plain password)? */
bool mos_is_password_hash(const char *text);

#endif
