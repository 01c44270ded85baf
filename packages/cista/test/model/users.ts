import { Asking } from "../../src/binding/asked.js";
import { latency } from "./accounts.js";
import { partOf, UserPage } from "./user-page.js";
import { isList, type Step } from "./user-steps.js";

/** What happens to a page in which the user changes: of each change it is known what may be shown, and what has to be requested. */
export class World extends UserPage {
  async take(step: Step): Promise<void> {
    this.taken++;
    if (step.do === "watch") this.watch(step.kind, step.id);
    else if (step.do === "unwatch") {
      for (const { leave } of this.watched.splice(step.nth % (this.watched.length || 1), 1)) leave();
    } else if (step.do === "read") this.read(step.kind, step.id);
    else if (step.do === "put") this.put(step.id);
    else if (step.do === "invalidate") this.cache.invalidate({ source: this.sources[step.kind], params: step.id });
    else if (step.do === "change") {
      if (this.accounts.inARow >= 5) await this.beKnown();
      this.accounts.change(step.how, step.person);
    } else if (step.do === "pass") await this.clock.advance(step.ms);
    else if (step.do === "calm") await this.calm(step);
    else if (step.do === "meanwhile") await this.meanwhile(step);
    else if (step.do === "more") await this.more(step);
    else if (step.do === "fail") await this.fail(step);
    else if (step.do === "carry") await this.carry(step);
    else if (step.do === "write") await this.write(step);
    else if (step.do === "visit") await this.visit(step);
    else await this.turns(step.times, step.late, step.isWatched);
    for (let round = 0; round < 3; round++) await this.clock.advance(0);
    this.check();
  }

  /** A change of what is at rest: what has to be requested for it is known. */
  async calm({ how, person, by: asked }: Step & { do: "calm" }): Promise<void> {
    const { accounts } = this;
    const by = accounts.isUnsteady ? "me" : asked;
    await this.beKnown();
    await this.checkRest();
    const before = accounts.whoIs();
    const wanted = this.wanted();
    accounts.requested = [];
    accounts.change(how, person);
    const now = accounts.whoIs();
    const { isRefused } = accounts;
    const isOther = (path: string) => ![now, "all"].includes(accounts.held.get(path) ?? "");
    const expected = before === now ? [] : [...wanted].filter(isOther);
    const first = accounts.serial + 1;
    await this.beKnown(by);
    await this.checkRest();
    if (this.accounts.isUnsteady) {
      for (const path of new Set(accounts.requested)) {
        const count = accounts.requested.filter((each) => each === path).length;
        if (count > 2 + this.others(2))
          throw new Error(`F9: nobody knows who asks, and ${path} is requested ${count} times`);
      }
      return;
    }
    const own = `/${partOf[by] ?? by}/${first}`;
    const due = [...expected, own, ...(isRefused ? [own] : [])].sort();
    // In a partition each token is the same person's, and may have other rights.
    const mayBe = (path: string) => this.page.way === "partition" && path.startsWith("/refused") && path !== own;
    const requested = accounts.requested.filter((path) => !mayBe(path)).sort();
    if (String(due) !== String(requested))
      throw new Error(`F9: ${before} is ${now} from now on (${how}): requested ${requested}, and not ${due}`);
  }

  async meanwhile({
    kind,
    id,
    how,
    person,
    after,
    back,
    isInvalidated,
    isAsked,
  }: Step & { do: "meanwhile" }): Promise<void> {
    const { accounts } = this;
    await this.beKnown();
    if (kind === "row") this.read("list", id); // it stands in
    this.watch(kind, id);
    await this.settle();
    if (isList(kind)) this.readOn(kind, id);
    for (const stream of accounts.streams) stream.send();
    await this.settle();
    accounts.version += 1 + (person % 2);
    const selector = { source: this.sources[kind], params: kind === "news" ? 0 : id };
    if (kind === "row" && !isInvalidated) this.cache.delete(selector);
    else if (isInvalidated) this.cache.invalidate(selector);
    else this.read(kind, id, isList(kind) ? "no-cache" : "default");
    await this.clock.advance(after);
    accounts.change(how, person);
    if (back > 0) {
      await this.clock.advance(back);
      accounts.change("back", 0);
    }
    if (isAsked) this.read("me", ++accounts.serial);
    for (let round = 0; round < 8; round++) {
      await this.clock.advance(4);
      this.check();
    }
    await this.settle();
    await this.beKnown();
    await this.checkRest();
  }

  async more({ kind, how, person, after, again, asks }: Step & { do: "more" }): Promise<void> {
    const { accounts } = this;
    await this.beKnown();
    const id = ++accounts.serial; // a list of which only the first page is held
    this.watch(kind, id, false);
    await this.settle();
    accounts.version += 1 + (person % 2);
    this.readOn(kind, id);
    const askList = () => this.cache.read(this.sources[kind], id, { cache: "no-cache" }).catch(() => {});
    await this.clock.advance(after);
    if (asks === "before") {
      void askList();
      await this.clock.advance(again % latency);
    }
    accounts.change(how, person);
    if (asks === "after") void askList();
    await this.clock.advance(again);
    this.readOn(kind, id);
    await this.settle();
    await this.beKnown();
    await this.checkRest();
  }

  /** Two watched entries fail, again and again, and the user changes meanwhile: each is requested a few times, and no failure is another's. */
  async fail({ how, person, after, isDeleted }: Step & { do: "fail" }): Promise<void> {
    const { accounts, cache, flaky } = this;
    await this.beKnown();
    const ids = [++accounts.serial, ++accounts.serial];
    const views = ids.map((id) => cache.view(flaky, id));
    const leaves = views.map((view) => view.subscribe(() => {}));
    await this.settle();
    accounts.requested = [];
    accounts.isFailing = true;
    for (const [at, id] of ids.entries()) {
      if (isDeleted) cache.delete({ source: flaky, params: id });
      void views[at]?.revalidate();
    }
    await this.clock.advance(after);
    const countOf = (id: number) => accounts.requested.filter((path) => path === `/flaky/${id}`).length;
    // A first try that fails is tried once more: by then for the new user. A second one that fails is requested for the new user.
    const isSureOf = !accounts.isUnsteady && !this.page.way.startsWith("late");
    const most = ids.map((id) => (isSureOf && countOf(id) < 2 ? 2 : 4));
    if (!accounts.isUnsteady) {
      accounts.change(how, person);
      this.read("me", ++accounts.serial);
    }
    await this.settle();
    for (const [at, id] of ids.entries()) {
      const count = countOf(id) - (how === "renewed" ? 1 : 0);
      if (count > (most[at] as number) + this.others(4))
        throw new Error(`F9: /flaky/${id} fails, and is requested ${count} times`);
      const told = (views[at]?.get().failure?.body as { person?: string } | undefined)?.person;
      if (told !== undefined && this.page.way !== "partition" && told !== this.who)
        throw new Error(`F9: ${this.who} is told the failure of ${told}`);
    }
    accounts.isFailing = false;
    for (const leave of leaves) leave();
    await this.beKnown();
    await this.checkRest();
  }

  /** Where each request is another user's, each that is watched has all others requested. @param times for each of them */
  others(times: number): number {
    return this.page.way === "signed" ? times * this.watched.length : 0;
  }

  /** As a component does whose params change: what it carries over is the present user's. */
  async carry({ how, person, after }: Step & { do: "carry" }): Promise<void> {
    const { accounts, cache, clock, sources } = this;
    await this.beKnown();
    const asking = new Asking();
    asking.isHydrating = false;
    const ask = () => asking.ask(cache, sources.me, ++accounts.serial, { carryOver: true });
    let leave = ask().subscribe(() => {});
    await this.settle();
    for (const step of ["other params", "another user"]) {
      if (step === "another user") accounts.change(how, person);
      const asked = ask();
      const leaveFormer = leave;
      leave = asked.subscribe(() => {});
      leaveFormer();
      for (let round = 0; round < 5; round++) {
        const { value, provisional } = asking.get(asked);
        const isHeardOf = accounts.lastToAsk === accounts.whoIs();
        if (isHeardOf && this.page.way !== "partition" && this.isAnothers("me", 0, value))
          throw new Error(`F9: ${provisional ?? "shown"} to ${this.who}: ${JSON.stringify(value)}`);
        await clock.advance(after % 5);
      }
    }
    leave();
    await this.settle();
    await this.beKnown();
    await this.checkRest();
  }

  /** The write is the first to tell of a user: its change is shown, and its answer is that user's. */
  async write({ id, how, person, after, leaves }: Step & { do: "write" }): Promise<void> {
    const { accounts, succeeded } = this;
    if (this.page.way === "signed") return; // any request lifts what a write has changed (docs/security.md)
    await this.beKnown();
    const view = this.watch("open", id);
    await this.settle();
    accounts.change(how, person);
    const { who } = this;
    const isLeft = leaves !== "no" && who !== "nobody"; // a write of nobody may be the one that signs in
    this.cache.run(this.mark, id).catch(() => {});
    await this.clock.advance(after);
    if (view?.get().value !== `${who} has marked it`) accounts.odd = `${who} has marked ${id}: ${view?.get().value}`;
    if (isLeft) accounts.changeToNext();
    if (isLeft && leaves === "known") this.cache.read(this.sources.me, ++accounts.serial).catch(() => {});
    await this.settle();
    this.check();
    if (!isLeft && this.succeeded === succeeded) accounts.odd = `nothing is made of the answer to ${who}`;
    await this.beKnown();
    await this.checkRest();
  }

  async visit({ kind, id, person, isKnown }: Step & { do: "visit" }): Promise<void> {
    const { accounts } = this;
    await this.beKnown();
    accounts.change("person", person);
    this.read(kind, id); // it is theirs
    await this.settle();
    accounts.change("back", 0);
    await this.beKnown();
    accounts.change("back", 0);
    if (isKnown) await this.beKnown();
    this.watch(kind, id);
    accounts.change("back", 0);
    await this.settle();
    await this.beKnown();
    await this.checkRest();
  }

  /** The user changes while a request is under way, and again while the next one is. */
  async turns(wanted: number, late: number, isWatched: boolean): Promise<void> {
    if (this.accounts.isUnsteady || this.page.way.startsWith("late")) return;
    const times = this.watched.length > 0 ? Math.min(wanted, 5) : wanted; // not more are followed in a row
    const { accounts, cache, sources } = this;
    await this.beKnown();
    const id = ++accounts.serial;
    const given: (string | undefined)[] = [];
    const note = (nth: number) => (value: unknown) => (given[nth] = String(value));
    const ask = (nth: number) => void cache.read(sources.me, id).then(note(nth), () => {});
    const view = isWatched ? cache.view(sources.me, id) : undefined;
    const leave = view?.subscribe(() => {});
    if (!view) ask(0);
    for (let turn = 1; turn <= times; turn++) {
      await this.clock.advance(latency / 2);
      accounts.changeToNext();
      if (turn === late) ask(1);
      await this.clock.advance(latency / 2);
    }
    await this.settle();
    const { who } = this;
    if (times <= 5 && !view && given[0] !== who) accounts.odd = `after ${times} turns ${who} has ${given[0]}'s`;
    if (times <= 5 && view && view.get().value !== who)
      accounts.odd = `after ${times} turns ${who} is shown ${view.get().value}'s`;
    if (late === times && given[1] !== who) accounts.odd = `who came at the last of ${times} turns has ${given[1]}'s`;
    leave?.();
  }
}
