<!-- What is captured and how long it stays, as sentences with controls in them. What would go is shown before it is saved. -->
<script lang="ts">
  import * as api from "../lib/api";
  import type { Rules, RulesChange, RulesVerdict, SweepPreview } from "../lib/api";
  import { amounts, KINDS, line, toggled } from "../lib/clips";
  import { number, size, span } from "../lib/format";
  import { frame } from "../state/commands.svelte";
  import { run } from "../state/notices.svelte";
  import { Resource } from "../state/resource.svelte";
  import { service } from "../state/service.svelte";
  import { w } from "../words/index.svelte";
  import Amount from "../ui/Amount.svelte";
  import Button from "../ui/Button.svelte";
  import Dialog from "../ui/Dialog.svelte";
  import Field from "../ui/Field.svelte";
  import Page from "../ui/Page.svelte";
  import Checks from "../ui/Checks.svelte";
  import Section from "../ui/Section.svelte";
  import Toggle from "../ui/Toggle.svelte";
  import Words from "../ui/Words.svelte";
  import Keys from "./Keys.svelte";
  import NewScope from "./NewScope.svelte";

  type Changed = Partial<Pick<Rules, Extract<keyof Rules, keyof RulesChange>>>;

  const FEEDBACK = ["notification", "sound", "flash"] as const;
  const rules = new Resource(api.rules, { parts: ["rules"] });
  $effect(() => rules.watch());

  /** What is changed and not saved. */
  let changed = $state.raw<Changed>({});
  const dirty = $derived(Object.keys(changed).length > 0);
  const is = $derived<Rules | undefined>(rules.value && { ...rules.value, ...changed });
  let preview = $state.raw<SweepPreview>();
  let confirming = $state(false);
  let sample = $state("");
  let application = $state("");
  let verdict = $state.raw<RulesVerdict>();

  /** Why it would be kept so, or not. */
  function why({ refused, kind, sensitive, forgotten_after_seconds: after, paused }: RulesVerdict): string {
    if (refused) return w().rules.refusals[refused];
    const what = sensitive
      ? w().rules.wouldBeHidden(w().clips.secrets[sensitive], after ? span(after) : undefined)
      : w().rules.wouldBe(w().clips.kinds[kind ?? "text"]);
    return paused ? `${what} ${w().rules.butPaused}` : what;
  }
  let resetting = $state(false);

  const change = (part: Changed) => (changed = { ...changed, ...part });
  const limits = (part: Partial<Rules["limits"]>) => is && change({ limits: { ...is.limits, ...part } });

  let latest = 0;
  $effect(() => {
    const asked = changed;
    const mine = ++latest;
    if (Object.keys(asked).length === 0) {
      preview = undefined;
      return;
    }
    void run(() => api.previewRules(asked)).then((told) => {
      if (mine === latest) preview = told;
    });
  });

  async function save(confirmed: boolean) {
    confirming = false;
    const done = await run(
      () => api.changeRules({ ...changed, confirmed }),
      () => w().rules.saved,
      (error) => {
        confirming = error.kind === "urn:yadori:problem:much-would-go";
        return confirming;
      },
    );
    if (!done) return;
    changed = {};
    await rules.load();
  }

  async function reset() {
    resetting = false;
    if (
      await run(
        () => api.resetRules(true),
        () => w().rules.wasReset,
      )
    )
      changed = {};
    await rules.load();
  }

  async function test(event: SubmitEvent) {
    event.preventDefault();
    verdict = await run(() => api.testRules(sample, application || undefined));
  }
</script>

<Page title={w().pages.rules} about={w().rules.about}>
  {#snippet actions()}
    {#if service.capture?.state === "on"}<Button onclick={() => service.pause()}>{w().capture.pause}</Button
      >{:else if service.capture?.state === "paused"}<Button look="primary" onclick={() => service.resume()}
        >{w().capture.resume}</Button
      >{/if}
    <Button onclick={() => (frame.question = { kind: "clear" })}>{w().clearQuestion.title}…</Button>
    <Button onclick={() => (resetting = true)}>{w().rules.reset}</Button>
  {/snippet}
  {#if is}
    <Section title={w().rules.capture}>
      <div class="space-y-4">
        <Toggle
          label={is.history ? w().rules.historyOn : w().rules.historyOff}
          checked={is.history}
          onchange={(history) => change({ history })}
        />
        <Checks
          legend={w().rules.these}
          all={KINDS}
          names={w().rules.kinds}
          chosen={is.kinds}
          ontoggle={(kind) => change({ kinds: toggled(is.kinds, kind) })}
        />
        <Amount label={w().rules.largest} unit="bytes" value={is.largest} onchange={(largest) => change({ largest })} />
        <Amount
          label={w().rules.repeat}
          unit="millis"
          value={is.repeat_millis}
          onchange={(repeat_millis) => change({ repeat_millis })}
        />
        <Toggle label={w().rules.primary} checked={is.primary} onchange={(primary) => change({ primary })} />
        <Words
          label={w().rules.ignoredApps}
          help={w().rules.ignoredAppsHelp}
          values={is.ignored_applications}
          onchange={(ignored_applications) => change({ ignored_applications })}
        />
        <Words
          label={w().rules.ignoredPatterns}
          help={w().rules.ignoredPatternsHelp}
          mono
          values={is.ignored_patterns}
          onchange={(ignored_patterns) => change({ ignored_patterns })}
        />
        <Checks
          legend={w().rules.feedback}
          all={FEEDBACK}
          names={w().rules.feedbacks}
          chosen={is.feedback ?? []}
          ontoggle={(way) => change({ feedback: toggled(is.feedback ?? [], way) })}
        />
        <Toggle
          label={w().rules.recallToTop}
          checked={is.recall_to_top}
          onchange={(recall_to_top) => change({ recall_to_top })}
        />
      </div>
    </Section>
    <Section title={w().rules.retention} about={w().rules.retentionAbout}>
      <div class="space-y-3">
        <Amount
          label={w().rules.atMost}
          unit="count"
          value={is.limits.count ?? 0}
          onchange={(count) => limits({ count })}
        />
        <Amount
          label={w().rules.noOlder}
          unit="seconds"
          value={is.limits.age_seconds ?? 0}
          onchange={(age_seconds) => limits({ age_seconds })}
        />
        <Amount
          label={w().rules.together}
          unit="bytes"
          value={is.limits.bytes ?? 0}
          onchange={(bytes) => limits({ bytes })}
        />
        <Amount
          label={w().rules.secrets}
          unit="seconds"
          value={is.sensitive_seconds}
          onchange={(sensitive_seconds) => change({ sensitive_seconds })}
        />
        {#each is.scopes as scope (`${scope.kind} ${scope.application}`)}
          <p class="flex flex-wrap items-center gap-2">
            {w().rules.scope(scope.kind ? w().rules.kinds[scope.kind] : (scope.application ?? ""))}
            {scope.limits && amounts(scope.limits)}
            <Button onclick={() => change({ scopes: is.scopes.filter((other) => other !== scope) })}
              >{w().rules.removeScope}</Button
            >
          </p>
        {/each}
        <NewScope onadd={(scope) => change({ scopes: [...is.scopes, scope] })} />
        <Toggle
          label={w().rules.forgetAtLogOut}
          checked={is.forget_at_log_out}
          onchange={(forget_at_log_out) => change({ forget_at_log_out })}
        />
        <p class="faint text-sm">{w().rules.keptStay}</p>
      </div>
    </Section>
    {#if dirty}
      <div
        class="sticky bottom-0 z-10 -mx-2 rounded-box border border-primary bg-base-100 p-4 shadow-lg"
        role="region"
        aria-label={w().rules.unsaved}
      >
        <p role="status">
          {preview ? w().rules.wouldGo(number(preview.count), size(preview.bytes), preview.count) : w().entry.loading}
        </p>
        {#if preview && preview.count > 0}
          <ul class="faint mt-2 max-h-32 overflow-y-auto text-sm">
            {#each preview.first.slice(0, 8) as going (going.clip.id)}<li class="truncate">
                <bdi>{going.clip.title ?? line(going.clip)}</bdi>
              </li>{/each}
          </ul>
        {/if}
        <div class="mt-3 flex gap-2">
          <Button look="primary" onclick={() => save(false)}>{w().actions.save}</Button>
          <Button onclick={() => (changed = {})}>{w().actions.discard}</Button>
        </div>
      </div>
    {/if}
    <Section title={w().rules.test} about={w().rules.testAbout}>
      <form class="max-w-xl space-y-3" onsubmit={test}>
        <Field label={w().rules.sample}
          >{#snippet children(id)}<textarea {id} class="textarea h-20 w-full" bind:value={sample} required dir="auto"
            ></textarea>{/snippet}</Field
        >
        <Field label={w().rules.fromApp}
          >{#snippet children(id)}<input {id} class="input w-full" bind:value={application} />{/snippet}</Field
        >
        <Button type="submit">{w().rules.tryIt}</Button>
      </form>
      {#if verdict}<p class="mt-3" role="status">
          <strong>{verdict.captured ? w().rules.captured : w().rules.notCaptured}</strong>
          {why(verdict)}
        </p>{/if}
    </Section>
    <Keys />
  {/if}
</Page>

{#if confirming}
  <Dialog title={w().rules.muchTitle} onclose={() => (confirming = false)}>
    <p>
      {preview ? w().rules.wouldGo(number(preview.count), size(preview.bytes), preview.count) : ""}
      {w().rules.muchMeans}
    </p>
    {#snippet actions()}<Button look="warning" onclick={() => save(true)}>{w().rules.saveAnyway}</Button>{/snippet}
  </Dialog>
{/if}
{#if resetting}
  <Dialog title={w().rules.reset} onclose={() => (resetting = false)}>
    <p>{w().rules.resetMeans}</p>
    {#snippet actions()}<Button look="warning" onclick={reset}>{w().rules.reset}</Button>{/snippet}
  </Dialog>
{/if}
