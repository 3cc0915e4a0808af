#include "base/secret.h"

#include "base/hash.h"

#include <assert.h>
#include <crypt.h>
#include <string.h>
#include <strings.h>

const char *mos_password_hash(struct mos_arena *arena, const char *password, const char *seed) {
    assert(password && seed);
    static const char letters[] =
        "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz";
    uint8_t id[16];
    char setting[] = "$6$0123456789abcdef$";
    mos_uuid_from_name(mos_printf(arena, "salt/%s", seed), id);
    for (size_t i = 0; i < sizeof id; i++)
        setting[3 + i] = letters[id[i] & 63];
    struct crypt_data *data = mos_alloc(arena, sizeof *data);
    const char *hash = crypt_r(password, setting, data);
    const char *out = hash && *hash != '*' ? mos_strdup(arena, hash) : NULL;
    memset(data, 0, sizeof *data);
    return out;
}

bool mos_password_fits(struct mos_arena *arena, const char *password, const char *hash) {
    struct crypt_data *data = mos_alloc(arena, sizeof *data);
    const char *made = crypt_r(password, hash, data);
    return made && strcmp(made, hash) == 0;
}

bool mos_is_password_hash(const char *text) {
    if (text[0] == '$')
        return strchr(text + 1, '$') != NULL && strlen(text) > 12;
    return strlen(text) == 13 && strspn(text, "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklm"
                                              "nopqrstuvwxyz") == 13;
}

bool mos_sounds_secret(const char *name) {
    static const char *const words[] = {"password",    "passwd",     "passphrase", "secret", "psk",
                                        "private_key", "privatekey", "api_key",    "apikey"};
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        for (const char *p = name; *p; p++)
            if (strncasecmp(p, words[i], strlen(words[i])) == 0)
                return true;
    return false;
}
