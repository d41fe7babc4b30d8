/* Differential test of whole library functions, many of them written in assembly: digests,
   ciphers, checksums, long numbers. Some bits of the input are set in many ways, then marked
   undefined: what varied in the output must be undefined, unless something was told on the way.
   Run under tondo with its test door open; libraries that are not there are passed over.
   libraries [ROUNDS [SEED]] */
#define _GNU_SOURCE
#include "ways.h"

#include <dlfcn.h>
#include <stdio.h>

static void *symbol(const char *library, const char *name) {
    void *handle = dlopen(library, RTLD_NOW);
    return handle ? dlsym(handle, name) : NULL;
}
/* A library's function, or the case's end. */
#define USE(result, name, library, ...)                                                       \
    static result (*name)(__VA_ARGS__);                                                       \
    if (!name && !(name = symbol(library, #name)))                                            \
    return 0
#define Z "libz.so.1"
#define CRYPTO "libcrypto.so.3"
#define GMP "libgmp.so.10"
#define GCRYPT "libgcrypt.so.20"
#define XXHASH "libxxhash.so.0"

struct function {
    const char *name;
    /* Works on `size` bytes of in; the number of bytes that it left in out, 0: there is none. */
    size_t (*run)(const struct function *f);
    size_t size;
    const char *which;
    int algorithm, mode;
    bool backwards;
};

static size_t checksum(const struct function *f) {
    USE(unsigned long, crc32, Z, unsigned long, const void *, unsigned);
    USE(unsigned long, adler32, Z, unsigned long, const void *, unsigned);
    unsigned long r = f->algorithm ? adler32(1, in, (unsigned)f->size)
                                   : crc32(0, in, (unsigned)f->size);
    memcpy(out, &r, sizeof r);
    return sizeof r;
}

static size_t digest(const struct function *f) {
    USE(void *, EVP_get_digestbyname, CRYPTO, const char *);
    USE(int, EVP_Digest, CRYPTO, const void *, size_t, void *, unsigned *, void *, void *);
    unsigned made = 0;
    void *kind = EVP_get_digestbyname(f->which);
    return kind && EVP_Digest(in, f->size, out, &made, kind, NULL) ? made : 0;
}

static size_t cipher(const struct function *f) {
    USE(void *, EVP_CIPHER_CTX_new, CRYPTO, void);
    USE(void *, EVP_get_cipherbyname, CRYPTO, const char *);
    USE(int, EVP_CipherInit_ex, CRYPTO, void *, void *, void *, const void *, const void *, int);
    USE(int, EVP_CipherUpdate, CRYPTO, void *, void *, int *, const void *, int);
    USE(void, EVP_CIPHER_CTX_free, CRYPTO, void *);
    static const uint8_t key[64] = {1, 2, 3}, vector[16] = {5};
    int made = 0;
    void *kind = EVP_get_cipherbyname(f->which), *context = EVP_CIPHER_CTX_new();
    if (kind) {
        EVP_CipherInit_ex(context, kind, NULL, key, vector, !f->backwards);
        EVP_CipherUpdate(context, out, &made, in, (int)f->size);
    }
    EVP_CIPHER_CTX_free(context);
    return (size_t)made;
}

static size_t other_digest(const struct function *f) {
    USE(const char *, gcry_check_version, GCRYPT, const char *);
    USE(void, gcry_md_hash_buffer, GCRYPT, int, void *, const void *, size_t);
    USE(unsigned, gcry_md_get_algo_dlen, GCRYPT, int);
    gcry_check_version(NULL);
    gcry_md_hash_buffer(f->algorithm, out, in, f->size);
    return gcry_md_get_algo_dlen(f->algorithm);
}

static size_t other_cipher(const struct function *f) {
    USE(const char *, gcry_check_version, GCRYPT, const char *);
    USE(int, gcry_cipher_open, GCRYPT, void **, int, int, unsigned);
    USE(int, gcry_cipher_setkey, GCRYPT, void *, const void *, size_t);
    USE(int, gcry_cipher_setiv, GCRYPT, void *, const void *, size_t);
    USE(int, gcry_cipher_setctr, GCRYPT, void *, const void *, size_t);
    USE(int, gcry_cipher_encrypt, GCRYPT, void *, void *, size_t, const void *, size_t);
    USE(int, gcry_cipher_decrypt, GCRYPT, void *, void *, size_t, const void *, size_t);
    USE(void, gcry_cipher_close, GCRYPT, void *);
    USE(size_t, gcry_cipher_get_algo_keylen, GCRYPT, int);
    enum { CBC = 3, STREAM = 4, COUNTER = 6 };
    static const uint8_t key[64] = {1, 2, 3, 4, 5}, vector[16] = {3};
    void *handle = NULL;
    gcry_check_version(NULL);
    if (gcry_cipher_open(&handle, f->algorithm, f->mode, 0))
        return 0;
    gcry_cipher_setkey(handle, key, gcry_cipher_get_algo_keylen(f->algorithm));
    if (f->mode == COUNTER)
        gcry_cipher_setctr(handle, vector, sizeof vector);
    else if (f->mode == CBC || f->mode == STREAM)
        gcry_cipher_setiv(handle, vector, f->mode == STREAM ? 8 : 16);
    (f->backwards ? gcry_cipher_decrypt : gcry_cipher_encrypt)(handle, out, OUT, in, f->size);
    gcry_cipher_close(handle);
    return f->size;
}

static size_t long_number(const struct function *f) {
    USE(unsigned long, __gmpn_add_n, GMP, void *, const void *, const void *, long);
    USE(unsigned long, __gmpn_sub_n, GMP, void *, const void *, const void *, long);
    USE(void, __gmpn_mul_n, GMP, void *, const void *, const void *, long);
    USE(unsigned long, __gmpn_lshift, GMP, void *, const void *, long, unsigned);
    USE(unsigned long, __gmpn_addmul_1, GMP, void *, const void *, long, unsigned long);
    USE(unsigned long, __gmpn_popcount, GMP, const void *, long);
    USE(unsigned long, __gmpn_hamdist, GMP, const void *, const void *, long);
    long words = (long)f->size / 16;
    size_t half = (size_t)words * 8;
    unsigned long r = 0;
    memset(out, 3, f->size);
    switch (f->algorithm) {
    case 0: r = __gmpn_add_n(out, in, in + half, words); break;
    case 1: r = __gmpn_sub_n(out, in, in + half, words); break;
    case 2: __gmpn_mul_n(out, in, in + half, words); return 2 * half;
    case 3: r = __gmpn_lshift(out, in, words, 7); break;
    case 4: r = __gmpn_addmul_1(out, in, words, 0x123456789abcUL); break;
    case 5: r = __gmpn_popcount(in, words); break;
    case 6: r = __gmpn_hamdist(in, in + half, words); break;
    }
    memcpy(out + half, &r, sizeof r);
    return half + sizeof r;
}

static size_t quick_hash(const struct function *f) {
    USE(unsigned, XXH32, XXHASH, const void *, size_t, unsigned);
    USE(unsigned long, XXH64, XXHASH, const void *, size_t, unsigned long);
    USE(unsigned long, XXH3_64bits, XXHASH, const void *, size_t);
    unsigned long r = f->algorithm == 0   ? XXH32(in, f->size, 7)
                      : f->algorithm == 1 ? XXH64(in, f->size, 7)
                                          : XXH3_64bits(in, f->size);
    memcpy(out, &r, sizeof r);
    return sizeof r;
}

static const struct function functions[] = {
    {"crc32", checksum, 100, "", 0, 0, false},
    {"adler32", checksum, 500, "", 1, 0, false},
    {"sha1", digest, 130, "sha1", 0, 0, false},
    {"sha256", digest, 150, "sha256", 0, 0, false},
    {"sha512", digest, 150, "sha512", 0, 0, false},
    {"sha3", digest, 200, "sha3-256", 0, 0, false},
    {"md5", digest, 100, "md5", 0, 0, false},
    {"blake2b", digest, 200, "blake2b512", 0, 0, false},
    {"aes ecb", cipher, 256, "aes-128-ecb", 0, 0, false},
    {"aes ecb, 2 blocks", cipher, 32, "aes-128-ecb", 0, 0, false},
    {"aes cbc", cipher, 128, "aes-128-cbc", 0, 0, false},
    {"aes cbc back", cipher, 256, "aes-128-cbc", 0, 0, true},
    {"aes ctr", cipher, 200, "aes-256-ctr", 0, 0, false},
    {"aes gcm", cipher, 320, "aes-128-gcm", 0, 0, false},
    {"chacha20", cipher, 300, "chacha20", 0, 0, false},
    {"other sha1", other_digest, 150, "", 2, 0, false},
    {"other sha256", other_digest, 150, "", 8, 0, false},
    {"other sha512", other_digest, 200, "", 10, 0, false},
    {"other crc32", other_digest, 150, "", 302, 0, false},
    {"other blake2b", other_digest, 200, "", 318, 0, false},
    {"other aes ecb", other_cipher, 256, "", 7, 1, false},
    {"other aes cbc", other_cipher, 256, "", 7, 3, false},
    {"other aes cbc back", other_cipher, 256, "", 7, 3, true},
    {"other aes ctr", other_cipher, 300, "", 9, 6, false},
    {"camellia", other_cipher, 512, "", 310, 6, false},
    {"serpent", other_cipher, 512, "", 304, 6, false},
    {"twofish", other_cipher, 512, "", 303, 6, false},
    {"salsa20", other_cipher, 300, "", 313, 4, false},
    {"other chacha20", other_cipher, 500, "", 316, 4, false},
    {"sum", long_number, 144, "", 0, 0, false},
    {"difference", long_number, 144, "", 1, 0, false},
    {"product", long_number, 192, "", 2, 0, false},
    {"shift", long_number, 176, "", 3, 0, false},
    {"sum of product", long_number, 176, "", 4, 0, false},
    {"ones", long_number, 176, "", 5, 0, false},
    {"different bits", long_number, 176, "", 6, 0, false},
    {"xxh32", quick_hash, 200, "", 0, 0, false},
    {"xxh64", quick_hash, 200, "", 1, 0, false},
    {"xxh3", quick_hash, 500, "", 2, 0, false},
    {"xxh3 short", quick_hash, 90, "", 2, 0, false},
};

static size_t run(const void *which) {
    const struct function *f = which;
    return f->run(f);
}

int main(int argc, char **argv) {
    int rounds = argc > 1 ? atoi(argv[1]) : 3, bad = 0, seen = 0, told_times = 0;
    srand(argc > 2 ? (unsigned)atoi(argv[2]) : 1);
    for (size_t n = 0; n < sizeof functions / sizeof functions[0]; n++) {
        const struct function *f = &functions[n];
        if (!f->run(f)) {
            printf("%s: not there\n", f->name);
            continue;
        }
        seen++;
        for (int k = 0; k < rounds; k++) {
            bool told;
            int missed = missed_ways(run, f, f->size, &told);
            told_times += told;
            bad += missed != 0;
            if (missed)
                printf("%s: %d bytes vary and are said to be defined\n", f->name, missed);
        }
    }
    printf("%d functions, %d rounds each, %d told, %d failed\n", seen, rounds, told_times, bad);
    return bad != 0;
}
