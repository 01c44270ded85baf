/**
 * What Redis does in one go, as Lua: each is one round trip. All keys of one fleet bear one hash tag, so that they are in one
 * slot of a cluster. Versions are microseconds of Redis' own clock, or one more than the last: they go up over a loss of
 * everything (rule T5). See docs/fleet-protocol.md.
 */

const common = `
local function text(n) return string.format('%.0f', n) end
local function now() local t = redis.call('TIME'); return t[1] * 1000 + math.floor(t[2] / 1000) end
`;

const versions = `
local function next_version(key, least)
  local t = redis.call('TIME')
  local n = math.max(tonumber(redis.call('GET', key) or '0') + 1, t[1] * 1000000 + t[2], least)
  redis.call('SET', key, text(n))
  return text(n)
end
`;

/**
 * The labels' versions stand in one hash, which Redis lets go of as a whole or not at all; `since` is when it began. What is
 * older than that may have been called out of date, and nobody knows: to be safe, it was.
 */
const labels = `
local function is_good(key, lines, version)
  local fields = { 'since' }
  for label in string.gmatch(lines, '[^\\n]+') do fields[#fields + 1] = '=' .. label end
  local said = redis.call('HMGET', key, unpack(fields))
  if not said[1] then return false end
  for n = 1, #fields do
    if said[n] and tonumber(said[n]) > version then return false end
  end
  return true
end
local function begin(key, counter)
  if redis.call('HEXISTS', key, 'since') == 0 then redis.call('HSET', key, 'since', next_version(counter, 0)) end
end
`;

/**
 * KEYS entry, lease, own, failed, counter, labels. ARGV holder, lease in ms, "1" where it has waited.
 * → state, version, age, labels, meta, value, token, what is left of another's lease in ms.
 */
const take = `${common}${versions}${labels}
local e = redis.call('HMGET', KEYS[1], 'n', 's', 'a', 'l', 'g', 'i', 'm', 'v')
local state, age = 'none', 0
if e[7] and e[8] then
  age = tonumber(e[3]) + math.max(0, now() - tonumber(e[2]))
  state = age < tonumber(e[4]) and 'fresh' or 'stale'
  local version = tonumber(e[1])
  if (e[6] and tonumber(e[6]) > version) or not is_good(KEYS[6], e[5], version) then state = 'invalid' end
  if state == 'fresh' then return { state, e[1], text(age), e[5], e[7], e[8] } end
end
if redis.call('EXISTS', KEYS[3]) == 1 then return { 'own' } end
local holder = redis.call('GET', KEYS[2])
local found = { state, e[1] or '', text(age), e[5] or '', e[7] or '', e[8] or '' }
if holder then
  found[7] = ''
  found[8] = text(math.max(0, redis.call('PTTL', KEYS[2])))
  return found
end
if ARGV[3] == '1' then
  local failure = redis.call('GET', KEYS[4])
  if failure then return { 'failed', failure } end
end
begin(KEYS[6], KEYS[5])
local token = next_version(KEYS[5], 0)
redis.call('SET', KEYS[2], ARGV[1] .. ' ' .. token, 'PX', ARGV[2])
found[7] = token
return found`;

/** KEYS lease, counter, labels. ARGV holder, lease in ms. → token */
const anew = `${common}${versions}${labels}
begin(KEYS[3], KEYS[2])
local token = next_version(KEYS[2], 0)
redis.call('SET', KEYS[1], ARGV[1] .. ' ' .. token, 'PX', ARGV[2])
return token`;

/** KEYS entry, lease, own, told, labels. ARGV "holder token", token, value, meta, age, lifetime, keep, labels, id. → what became of it */
const put = `${common}${labels}
local said = 'stored'
local token = tonumber(ARGV[2])
local before = redis.call('HMGET', KEYS[1], 'n', 'i')
if redis.call('GET', KEYS[2]) ~= ARGV[1] then said = 'lost'
elseif before[1] and tonumber(before[1]) >= token then said = 'older'
elseif before[2] and tonumber(before[2]) > token then said = 'invalidated'
elseif not is_good(KEYS[5], ARGV[8], token) then said = 'invalidated' end
if said == 'stored' then
  redis.call('DEL', KEYS[1], KEYS[3])
  redis.call('HSET', KEYS[1], 'n', ARGV[2], 's', text(now()), 'a', ARGV[5], 'l', ARGV[6], 'g', ARGV[8], 'm', ARGV[4], 'v', ARGV[3])
  redis.call('PEXPIRE', KEYS[1], ARGV[7])
end
if redis.call('GET', KEYS[2]) == ARGV[1] then redis.call('DEL', KEYS[2]) end
redis.call('PUBLISH', KEYS[4], ARGV[9])
return said`;

/** KEYS lease, own, failed, told. ARGV "holder token", ms of own, failure, id. */
const release = `
if redis.call('GET', KEYS[1]) == ARGV[1] then
  redis.call('DEL', KEYS[1])
  if ARGV[3] ~= '' then redis.call('SET', KEYS[3], ARGV[3], 'PX', 1000) end
end
if ARGV[2] ~= '0' then redis.call('SET', KEYS[2], '1', 'PX', ARGV[2]) end
redis.call('PUBLISH', KEYS[4], ARGV[4])
return 1`;

/** KEYS lease. ARGV "holder token", lease in ms. → 1 where it is still ours */
const renew = `
if redis.call('GET', KEYS[1]) == ARGV[1] then return redis.call('PEXPIRE', KEYS[1], ARGV[2]) end
return 0`;

/**
 * KEYS counter, stream, told, labels. ARGV prefix, holder, labels, ids, how long entries are kept in ms. → version
 */
const invalidate = `${common}${versions}
local last = redis.call('XREVRANGE', KEYS[2], '+', '-', 'COUNT', 1)
local before = last[1] and string.match(last[1][1], '^%d+') or '0'
local version = next_version(KEYS[1], tonumber(before) + 1)
redis.call('HSETNX', KEYS[4], 'since', version)
for label in string.gmatch(ARGV[3], '[^\\n]+') do redis.call('HSET', KEYS[4], '=' .. label, version) end
for id in string.gmatch(ARGV[4], '[^\\n]+') do
  local key = ARGV[1] .. 'e:' .. id
  if redis.call('EXISTS', key) == 1 then redis.call('HSET', key, 'i', version) end
  redis.call('DEL', ARGV[1] .. 'l:' .. id)
end
-- Nothing is kept for longer: what is older than that says nothing any more. Looked at once for each thousand.
local many = redis.call('HLEN', KEYS[4])
if many > 10000 and many % 1000 < 10 then
  local all, oldest = redis.call('HGETALL', KEYS[4]), tonumber(version) - tonumber(ARGV[5]) * 1000
  for i = 1, #all, 2 do
    if all[i] ~= 'since' and tonumber(all[i + 1]) < oldest then redis.call('HDEL', KEYS[4], all[i]) end
  end
  if redis.call('HLEN', KEYS[4]) > 100000 then
    redis.call('DEL', KEYS[4])
    redis.call('HSET', KEYS[4], 'since', version)
  end
end
redis.call('XADD', KEYS[2], 'MAXLEN', '~', 10000, version .. '-0', 'p', before, 'h', ARGV[2], 'g', ARGV[3], 'k', ARGV[4])
redis.call('PUBLISH', KEYS[3], '')
return version`;

/**
 * KEYS members. ARGV holder, version, for how long one is believed in ms. → 1 where all others have heard. Of a list that has
 * begun only lately nobody knows who is missing in it.
 */
const heard = `${common}
local all = redis.call('HGETALL', KEYS[1])
local at, by_all = now(), 1
if at - tonumber(redis.call('HGET', KEYS[1], 'since') or at) < tonumber(ARGV[3]) then return 0 end
for i = 1, #all, 2 do
  local seen, version = string.match(all[i + 1], '^(%d+) (%d+) ')
  local since = at - tonumber(seen or at)
  if since > 60000 then redis.call('HDEL', KEYS[1], all[i])
  elseif seen and all[i] ~= ARGV[1] and since < tonumber(ARGV[3]) and tonumber(version) < tonumber(ARGV[2]) then by_all = 0 end
end
return by_all`;

/**
 * KEYS stream, members, counter. ARGV holder, the last that was heard ("" at first), about.
 * → ms now, last, "1" where some are missing, then each: version, holder, labels, ids.
 */
const news = `${common}${versions}
local last = redis.call('XREVRANGE', KEYS[1], '+', '-', 'COUNT', 1)
local newest = last[1] and string.match(last[1][1], '^%d+')
if not newest then
  -- So that everybody has heard of something, by which a stream that has begun anew is known.
  newest = next_version(KEYS[3], 0)
  redis.call('XADD', KEYS[1], newest .. '-0', 'p', '0', 'h', '', 'g', '', 'k', '')
end
local heard = ARGV[2] == '' and newest or ARGV[2]
redis.call('HSETNX', KEYS[2], 'since', text(now()))
redis.call('HSET', KEYS[2], ARGV[1], text(now()) .. ' ' .. heard .. ' ' .. ARGV[3])
redis.call('PEXPIRE', KEYS[2], 3600000)
local said = { text(now()), heard, '0' }
if newest == heard then return said end
if tonumber(newest) < tonumber(heard) then return { said[1], newest, '1' } end
for n, entry in ipairs(redis.call('XRANGE', KEYS[1], '(' .. heard .. '-0', '+', 'COUNT', 500)) do
  local f = {}
  for i = 1, #entry[2], 2 do f[entry[2][i]] = entry[2][i + 1] end
  if n == 1 and f.p ~= heard then said[3] = '1' end
  local version = string.match(entry[1], '^%d+')
  said[2] = version
  for _, part in ipairs({ version, f.h, f.g, f.k }) do said[#said + 1] = part end
end
return said`;

export type ScriptName = "take" | "anew" | "put" | "release" | "renew" | "invalidate" | "heard" | "news";
export const scripts: Readonly<Record<ScriptName, string>> = {
  take,
  anew,
  put,
  release,
  renew,
  invalidate,
  heard,
  news,
};
