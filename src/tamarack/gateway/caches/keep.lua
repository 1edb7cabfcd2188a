-- Keeps one answer, and forgets those kept for the longest without use until all fit again.
-- KEYS: the answer, uses, what is known of each, the bytes of all, the answers of its path, hits
-- ARGV: the answer, its time in ms, its size, the most bytes of all, now, its digest, about it
local before = redis.call('HGET', KEYS[3], ARGV[6])
local bytes = 0
if before then bytes = -tonumber(string.match(before, '^%d+')) end
redis.call('SET', KEYS[1], ARGV[1], 'PX', ARGV[2])
redis.call('ZADD', KEYS[2], ARGV[5], ARGV[6])
redis.call('HSET', KEYS[3], ARGV[6], ARGV[7])
redis.call('SADD', KEYS[5], ARGV[6])
redis.call('PEXPIRE', KEYS[5], ARGV[2], 'NX')
redis.call('PEXPIRE', KEYS[5], ARGV[2], 'GT')
local all = redis.call('INCRBY', KEYS[4], bytes + tonumber(ARGV[3]))
local prefix = string.sub(KEYS[1], 1, -1 - #ARGV[6])
while all > tonumber(ARGV[4]) do
  local oldest = redis.call('ZPOPMIN', KEYS[2])
  if #oldest == 0 then
    redis.call('SET', KEYS[4], 0)
    break
  end
  local about = redis.call('HGET', KEYS[3], oldest[1])
  redis.call('DEL', prefix .. oldest[1])
  if about then
    redis.call('HDEL', KEYS[3], oldest[1])
    redis.call('HDEL', KEYS[6], oldest[1])
    all = redis.call('DECRBY', KEYS[4], string.match(about, '^%d+'))
  end
end
return all
