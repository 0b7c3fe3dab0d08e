"""Works with the service through a client that was generated from its description.

Arguments: the folder of the client, the service's address, its token.
"""

import io
import sys
import zipfile

sys.path.insert(0, sys.argv[1])

from yadori_client import AuthenticatedClient
from yadori_client.api.clips import add, change_clip, content, list_, qr, recall, show
from yadori_client.api.forgetting import delete, undo
from yadori_client.api.kept import new_drawer, put_into_drawer, show_drawer
from yadori_client.api.moving import export
from yadori_client.api.rules import change_rules, show_rules
from yadori_client.models import (
    Attributes,
    ColourChange,
    Delete,
    DrawerChange,
    Kind,
    Limits,
    Problem,
    ProblemKind,
    Put,
    Recall,
    RulesChange,
    Undo,
)
from yadori_client.types import File

client = AuthenticatedClient(base_url=f"http://{sys.argv[2]}", token=sys.argv[3])


def is_equal(one, other):
    assert one == other, f"{one!r} is not {other!r}"


def text(words):
    return File(payload=io.BytesIO(words.encode()))


# A clip is added once, however often it is sent.
first = add.sync_detailed(client=client, body=text("Gel 201, 日本語"), title="Moon", idempotency_key="a")
again = add.sync_detailed(client=client, body=text("Gel 201, 日本語"), title="Moon", idempotency_key="a")
is_equal((first.status_code, first.parsed.new), (201, True))
is_equal(again.parsed.clip.id, first.parsed.clip.id)
clip = first.parsed.clip
is_equal((clip.kind, clip.title, clip.position, clip.alias), (Kind.TEXT, "Moon", 1, None))

page = list_.sync(client=client, q="gel", limit=5)
is_equal([found.id for found in page.clips], [clip.id])
is_equal(content.sync(client=client, name=clip.id).payload.read().decode(), "Gel 201, 日本語")
assert qr.sync_detailed(client=client, name=clip.id).content.startswith(b"<?xml")

# Only what was seen is changed.
seen = show.sync_detailed(client=client, name=clip.id)
is_equal(seen.parsed.text, "Gel 201, 日本語")
tag = seen.headers["etag"]
changed = change_clip.sync(client=client, name=clip.id, body=Attributes(mark=ColourChange.FERN), if_match=tag)
is_equal((changed.mark, changed.title), ("fern", "Moon"))
late = change_clip.sync(client=client, name=clip.id, body=Attributes(title="late"), if_match=tag)
is_equal((type(late), late.status, late.type_), (Problem, 412, ProblemKind.URNYADORIPROBLEMNOT_AS_SEEN))

# What is not there is told as a problem of its kind.
missing = show.sync(client=client, name="99")
is_equal((missing.status, missing.type_), (404, ProblemKind.URNYADORIPROBLEMNO_SUCH_CLIP))

is_equal(new_drawer.sync(client=client, body=DrawerChange(name="Venues & more")).name, "Venues & more")
put_into_drawer.sync(client=client, drawer="Venues & more", body=Put(clips=[clip.id]))
is_equal([item.clip.id for item in show_drawer.sync(client=client, drawer="Venues & more").items], [clip.id])
is_equal(recall.sync(client=client, body=Recall(clips=["1"], plain=True)).clips[0].id, clip.id)

is_equal(delete.sync(client=client, body=Delete(clips=[clip.id])).clips[0].id, clip.id)
is_equal(undo.sync(client=client, body=Undo()).clips[0].id, clip.id)

# A number that JSON can carry exactly comes back as it was.
most = 2**53 - 1
change_rules.sync(client=client, body=RulesChange(limits=Limits(count=most, age_seconds=0, bytes_=0)))
is_equal(show_rules.sync(client=client).limits.count, most)

archive = export.sync_detailed(client=client)
is_equal(archive.headers["x-yadori-clips"], "1")
assert "clips.ndjson" in zipfile.ZipFile(io.BytesIO(archive.content)).namelist()
print("done")
