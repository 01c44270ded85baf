/** So many messages of other tabs are remembered, whichever tabs they are. */
const most = 10_000;

/** A map that forgets the oldest, so that no tab's messages fill the memory. */
export class Recent<K, V> extends Map<K, V> {
  override set(key: K, value: V): this {
    super.delete(key);
    super.set(key, value);
    if (this.size > most) super.delete(this.keys().next().value as K);
    return this;
  }
}
