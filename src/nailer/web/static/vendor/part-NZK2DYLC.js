function u({pieces:i,choices:c,theirs:n}){let e=0;return n??i.map(t=>{if(t.settled)return t.text;let r=c[e];return e+=1,r==="both"?t.mine+t.theirs:t[r]}).join("")}export{u as a};
