/* The table of replaced functions: what the engine does itself when the guest
   calls a function of this name. One row per name; aliases share an action.
   H(symbol, action, name in reports): the allocator family.
   S(symbol, action, name in reports): memory and string functions.
   L(symbol, action, name in reports, register): the same with a limit. */
#define REPLACED_HEAP(H)                                                                  \
    H("malloc", MALLOC, "malloc")                                                         \
    H("__libc_malloc", MALLOC, "malloc")                                                  \
    H("calloc", CALLOC, "calloc")                                                         \
    H("__libc_calloc", CALLOC, "calloc")                                                  \
    H("realloc", REALLOC, "realloc")                                                      \
    H("__libc_realloc", REALLOC, "realloc")                                               \
    H("reallocarray", REALLOCARRAY, "reallocarray")                                       \
    H("__libc_reallocarray", REALLOCARRAY, "reallocarray")                                \
    H("free", FREE, "free")                                                               \
    H("cfree", FREE, "cfree")                                                             \
    H("__libc_free", FREE, "free")                                                        \
    H("free_sized", FREE, "free_sized")                                                   \
    H("free_aligned_sized", FREE, "free_aligned_sized")                                   \
    H("memalign", MEMALIGN, "memalign")                                                   \
    H("__libc_memalign", MEMALIGN, "memalign")                                            \
    H("aligned_alloc", MEMALIGN, "aligned_alloc")                                         \
    H("posix_memalign", POSIX_MEMALIGN, "posix_memalign")                                 \
    H("valloc", VALLOC, "valloc")                                                         \
    H("__libc_valloc", VALLOC, "valloc")                                                  \
    H("pvalloc", PVALLOC, "pvalloc")                                                      \
    H("__libc_pvalloc", PVALLOC, "pvalloc")                                               \
    H("malloc_usable_size", USABLE_SIZE, "malloc_usable_size")                            \
    H("_Znwm", NEW, "operator new")                                                       \
    H("_ZnwmRKSt9nothrow_t", NEW, "operator new")                                         \
    H("_Znam", NEW_ARRAY, "operator new[]")                                               \
    H("_ZnamRKSt9nothrow_t", NEW_ARRAY, "operator new[]")                                 \
    H("_ZnwmSt11align_val_t", ALIGNED_NEW, "operator new")                                \
    H("_ZnwmSt11align_val_tRKSt9nothrow_t", ALIGNED_NEW, "operator new")                  \
    H("_ZnamSt11align_val_t", ALIGNED_NEW_ARRAY, "operator new[]")                        \
    H("_ZnamSt11align_val_tRKSt9nothrow_t", ALIGNED_NEW_ARRAY, "operator new[]")          \
    H("_ZdlPv", DELETE, "operator delete")                                                \
    H("_ZdlPvm", SIZED_DELETE, "operator delete")                                         \
    H("_ZdlPvRKSt9nothrow_t", DELETE, "operator delete")                                  \
    H("_ZdaPv", DELETE_ARRAY, "operator delete[]")                                        \
    H("_ZdaPvm", SIZED_DELETE_ARRAY, "operator delete[]")                                 \
    H("_ZdaPvRKSt9nothrow_t", DELETE_ARRAY, "operator delete[]")                          \
    H("_ZdlPvSt11align_val_t", ALIGNED_DELETE, "operator delete")                         \
    H("_ZdlPvmSt11align_val_t", ALIGNED_DELETE, "operator delete")                        \
    H("_ZdlPvSt11align_val_tRKSt9nothrow_t", ALIGNED_DELETE, "operator delete")           \
    H("_ZdaPvSt11align_val_t", ALIGNED_DELETE_ARRAY, "operator delete[]")                 \
    H("_ZdaPvmSt11align_val_t", ALIGNED_DELETE_ARRAY, "operator delete[]")                \
    H("_ZdaPvSt11align_val_tRKSt9nothrow_t", ALIGNED_DELETE_ARRAY, "operator delete[]")

#define REPLACED_STRINGS(S)                                                               \
    S("memcpy", MEMCPY, "memcpy")                                                         \
    S("memmove", MEMMOVE, "memmove")                                                      \
    S("bcopy", BCOPY, "bcopy")                                                            \
    S("mempcpy", MEMPCPY, "mempcpy")                                                      \
    S("__mempcpy", MEMPCPY, "mempcpy")                                                    \
    S("memset", MEMSET, "memset")                                                         \
    S("bzero", BZERO, "bzero")                                                            \
    S("memcmp", MEMCMP, "memcmp")                                                         \
    S("bcmp", MEMCMP, "bcmp")                                                             \
    S("__memcmpeq", MEMCMP, "memcmp")                                                     \
    S("memchr", MEMCHR, "memchr")                                                         \
    S("memrchr", MEMRCHR, "memrchr")                                                      \
    S("rawmemchr", RAWMEMCHR, "rawmemchr")                                                \
    S("__rawmemchr", RAWMEMCHR, "rawmemchr")                                              \
    S("strlen", STRLEN, "strlen")                                                         \
    S("strnlen", STRNLEN, "strnlen")                                                      \
    S("__strnlen", STRNLEN, "strnlen")                                                    \
    S("strcpy", STRCPY, "strcpy")                                                         \
    S("stpcpy", STPCPY, "stpcpy")                                                         \
    S("__stpcpy", STPCPY, "stpcpy")                                                       \
    S("strncpy", STRNCPY, "strncpy")                                                      \
    S("stpncpy", STPNCPY, "stpncpy")                                                      \
    S("__stpncpy", STPNCPY, "stpncpy")                                                    \
    S("strcat", STRCAT, "strcat")                                                         \
    S("strncat", STRNCAT, "strncat")                                                      \
    S("strcmp", STRCMP, "strcmp")                                                         \
    S("strncmp", STRNCMP, "strncmp")                                                      \
    S("strcasecmp", STRCASECMP, "strcasecmp")                                             \
    S("__strcasecmp", STRCASECMP, "strcasecmp")                                           \
    S("strncasecmp", STRNCASECMP, "strncasecmp")                                          \
    S("strcasecmp_l", STRCASECMP_L, "strcasecmp_l")                                       \
    S("__strcasecmp_l", STRCASECMP_L, "strcasecmp_l")                                     \
    S("strncasecmp_l", STRNCASECMP_L, "strncasecmp_l")                                    \
    S("__strncasecmp_l", STRNCASECMP_L, "strncasecmp_l")                                  \
    S("strchr", STRCHR, "strchr")                                                         \
    S("index", STRCHR, "index")                                                           \
    S("strchrnul", STRCHRNUL, "strchrnul")                                                \
    S("__strchrnul", STRCHRNUL, "strchrnul")                                              \
    S("strrchr", STRRCHR, "strrchr")                                                      \
    S("rindex", STRRCHR, "rindex")                                                        \
    S("strspn", STRSPN, "strspn")                                                         \
    S("strcspn", STRCSPN, "strcspn")                                                      \
    S("strpbrk", STRPBRK, "strpbrk")                                                      \
    S("strstr", STRSTR, "strstr")                                                         \
    S("wcslen", WCSLEN, "wcslen")                                                         \
    S("wcsnlen", WCSNLEN, "wcsnlen")                                                      \
    S("wcscpy", WCSCPY, "wcscpy")                                                         \
    S("wcpcpy", WCPCPY, "wcpcpy")                                                         \
    S("wcscat", WCSCAT, "wcscat")                                                         \
    S("wcsncpy", WCSNCPY, "wcsncpy")                                                      \
    S("wcsncat", WCSNCAT, "wcsncat")                                                      \
    S("memccpy", MEMCCPY, "memccpy")                                                      \
    S("wcscmp", WCSCMP, "wcscmp")                                                         \
    S("wcsncmp", WCSNCMP, "wcsncmp")                                                      \
    S("wcschr", WCSCHR, "wcschr")                                                         \
    S("wcsrchr", WCSRCHR, "wcsrchr")                                                      \
    S("wmemchr", WMEMCHR, "wmemchr")                                                      \
    S("wmemcmp", WMEMCMP, "wmemcmp")                                                      \
    S("wmemset", WMEMSET, "wmemset")

/* Those that are told how large their target is, in the register: what is longer stops the
   program. */
#define REPLACED_LIMITED(L)                                                               \
    L("__memcpy_chk", MEMCPY, "memcpy", RCX)                                              \
    L("__memmove_chk", MEMMOVE, "memmove", RCX)                                           \
    L("__mempcpy_chk", MEMPCPY, "mempcpy", RCX)                                           \
    L("__memset_chk", MEMSET, "memset", RCX)                                              \
    L("__strcpy_chk", STRCPY, "strcpy", RDX)                                              \
    L("__stpcpy_chk", STPCPY, "stpcpy", RDX)                                              \
    L("__strncpy_chk", STRNCPY, "strncpy", RCX)                                           \
    L("__stpncpy_chk", STPNCPY, "stpncpy", RCX)                                           \
    L("__strcat_chk", STRCAT, "strcat", RDX)                                              \
    L("__strncat_chk", STRNCAT, "strncat", RCX)                                           \
    L("__wcscpy_chk", WCSCPY, "wcscpy", RDX)                                              \
    L("__wcscat_chk", WCSCAT, "wcscat", RDX)                                              \
    L("__wcsncpy_chk", WCSNCPY, "wcsncpy", RCX)                                           \
    L("__wcsncat_chk", WCSNCAT, "wcsncat", RCX)                                           \
    L("__wmemset_chk", WMEMSET, "wmemset", RCX)

/* Those that stop the program where something was written, or would be, beyond the end of its
   target. */
#define REPLACED_STOPS(N)                                                                 \
    N("__chk_fail", STOPPED, "__chk_fail")                                                \
    N("__stack_chk_fail", GUARD, "__stack_chk_fail")                                      \
    N("__fdelt_chk", SET_ELEMENT, "FD_SET")

enum replaced_action {
    DO_NONE,
    DO_MALLOC, DO_CALLOC, DO_REALLOC, DO_REALLOCARRAY, DO_FREE, DO_MEMALIGN,
    DO_POSIX_MEMALIGN, DO_VALLOC, DO_PVALLOC, DO_USABLE_SIZE, DO_MALLOC_ANY, DO_FREE_ANY,
    DO_NEW, DO_NEW_ARRAY, DO_ALIGNED_NEW, DO_ALIGNED_NEW_ARRAY,
    DO_DELETE, DO_DELETE_ARRAY, DO_SIZED_DELETE, DO_SIZED_DELETE_ARRAY,
    DO_ALIGNED_DELETE, DO_ALIGNED_DELETE_ARRAY,
    DO_LAST_HEAP = DO_ALIGNED_DELETE_ARRAY,
    DO_MEMCPY, DO_MEMMOVE, DO_BCOPY, DO_MEMPCPY, DO_MEMSET, DO_BZERO, DO_MEMCMP, DO_MEMCHR,
    DO_MEMRCHR, DO_RAWMEMCHR, DO_STRLEN, DO_STRNLEN, DO_STRCPY, DO_STPCPY, DO_STRNCPY,
    DO_STPNCPY, DO_STRCAT, DO_STRNCAT, DO_STRCMP, DO_STRNCMP, DO_STRCASECMP, DO_STRNCASECMP,
    DO_STRCASECMP_L, DO_STRNCASECMP_L, DO_STRCHR, DO_STRCHRNUL, DO_STRRCHR, DO_STRSPN,
    DO_STRCSPN, DO_STRPBRK, DO_STRSTR, DO_WCSLEN, DO_WCSNLEN, DO_WCSCPY, DO_WCSCMP,
    DO_WCSNCMP, DO_WCSCHR, DO_WCSRCHR, DO_WMEMCHR, DO_WMEMCMP, DO_WMEMSET, DO_WCPCPY, DO_WCSCAT, DO_WCSNCPY, DO_WCSNCAT, DO_MEMCCPY,
    DO_LAST_STRING = DO_MEMCCPY,
    DO_STOPPED, DO_GUARD, DO_SET_ELEMENT,
    DO_RESOLVED, /* an indirect function's resolver has returned */
};
