//! The names that we and the X server share.

x11rb::atom_manager! {
    /// Atoms, looked up once for a connection.
    pub(super) Atoms:
    AtomsCookie {
        CLIPBOARD,
        TARGETS,
        MULTIPLE,
        TIMESTAMP,
        INCR,
        NULL,
        // An exiting program hands its copy over to the owner of this selection.
        CLIPBOARD_MANAGER,
        SAVE_TARGETS,
        DELETE,
        INSERT_SELECTION,
        INSERT_PROPERTY,
        ATOM_PAIR,
        UTF8_STRING,
        STRING,
        TEXT,
        COMPOUND_TEXT,
        TEXT_PLAIN: b"text/plain",
        TEXT_PLAIN_UTF8: b"text/plain;charset=utf-8",
        // By which password managers mark a copy as secret; its value is then `secret`.
        SECRET_HINT: b"x-kde-passwordManagerHint",
        _NET_ACTIVE_WINDOW,
        _NET_WM_NAME,
        _NET_WM_PID,
        _NET_SUPPORTING_WM_CHECK,
        WM_STATE,
        // Where answers to our requests arrive, in turn, so that a late one is not taken for another.
        ANSWER_0: b"YADORI_ANSWER_0",
        ANSWER_1: b"YADORI_ANSWER_1",
        ANSWER_2: b"YADORI_ANSWER_2",
        ANSWER_3: b"YADORI_ANSWER_3",
        ANSWER_4: b"YADORI_ANSWER_4",
        ANSWER_5: b"YADORI_ANSWER_5",
        ANSWER_6: b"YADORI_ANSWER_6",
        ANSWER_7: b"YADORI_ANSWER_7",
        // Changed only to learn the server's time.
        CLOCK: b"YADORI_CLOCK",
    }
}
