// An independent audit of GraphQL over HTTP, for the tests: `node graphql-audit.mjs ADDRESS [FIELD: VALUE]` prints what each
// of its checks found, as JSON. A call that is over its rate is made again when it may be.
import { auditServer } from "graphql-http";

const [url, field] = process.argv.slice(2);
const [name, value] = field ? field.split(": ") : [];

async function fetchFn(address, init = {}) {
  const asked = field ? { ...init, headers: { ...init.headers, [name]: value } } : init;
  for (;;) {
    const answer = await fetch(address, asked);
    if (answer.status !== 429) return answer;
    await new Promise((resolve) => setTimeout(resolve, 1000 * Number(answer.headers.get("retry-after") || 1)));
  }
}

const found = await auditServer({ url, fetchFn });
console.log(JSON.stringify(found.map(({ id, name, status, reason }) => ({ id, name, status, reason: reason || "" }))));
