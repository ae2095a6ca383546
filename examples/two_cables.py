# %% [markdown]
# # The same drive on two cables
#
# A reader writes that the Comet is "no faster than my old one". Is it the drive? This notebook
# measures a model drive twice, once
# behind a cable that carries too little, and asks Jovik which figures may be held against the
# drive. Run it cell by cell in an editor
# that knows `# %%`, or whole: `python examples/two_cables.py`. It works in the folder that it is
# run in.

# %%
from importlib import resources
from pathlib import Path

import jovik

shelf = jovik.open_shelf("shelf.db")
COMET = "Veldhaar Comet 2TB"

# %% [markdown]
# ## Measure
# A model drive brings its own sheet. The seed makes the figures come out the same everywhere. Each
# finished pass is on the shelf before
# the next begins, so that a notebook that is stopped has lost nothing: `jovik.resume(shelf)` goes
# on.

# %%
STEPS = [
    "sequential read 1MiB depth 8 for 2s",
    "sequential write 1MiB depth 8 for 2s",
    "random read 4KiB depth 32 for 2s",
    "random read 4KiB for 2s",
]
for seed, model in enumerate(["slate", "comet"], start=1):
    done = jovik.measure(
        shelf, f"model:{model}", *STEPS, passes=5, seed=seed, rig="bench, rear port"
    )
    print(f"{done.run.drive}: {done.run.state}, {sum(len(r.passes) for r in done.results)} passes")

# %% [markdown]
# The other cable is a model drive of our own: the same Comet with a link that carries 1 GB/s.

# %%
text = (resources.files("jovik.simulator") / "catalogue" / "comet.toml").read_text(encoding="utf-8")
Path("comet-on-a-poor-cable.toml").write_text(
    text.replace('link_rate = "7877MB/s"', 'link_rate = "1000MB/s"'), encoding="utf-8"
)
slow = jovik.measure(
    shelf, "model:comet-on-a-poor-cable.toml", *STEPS, passes=5, seed=3, rig="laptop, thin cable"
)

# %% [markdown]
# ## Look
# Every pass is a row. The two rigs differ in what moves much data, and in nothing else.

# %%
results = jovik.frames.results(shelf, COMET)
rates = results.pivot_table(index="kind", columns="rig", values="rate_bytes_s") / 1e6
rates["share"] = rates["laptop, thin cable"] / rates["bench, rear port"]
print(rates.round(2))

# %% [markdown]
# ## Judge
# The newest results are of the poor cable. Jovik knows that the same sample was faster elsewhere,
# and does not call the drive short.

# %%
for j in jovik.judge(shelf, COMET).verdicts:
    print(f"{j.claim.label}: {j.verdict} ({j.why})")

# %% [markdown]
# Measured once more on the good port, the newest results are the drive's own.

# %%
good = jovik.repeat(shelf, slow.run.id, target="model:comet", rig="bench, rear port")
print({str(j.verdict) for j in jovik.judge(shelf, COMET).verdicts if j.step is not None})

# %% [markdown]
# ## Draw and publish

# %%
jovik.draw(shelf, "claims", COMET, out="claims.png")
jovik.draw(shelf, "latency", COMET, "Corvane Slate 1TB", out="latency.svg", theme="dark")
print(jovik.review(shelf, COMET, "review.html", against=["Corvane Slate 1TB"]))
shelf.close()
